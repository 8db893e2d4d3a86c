import type { Environment, PullSchedule } from '@tessarion/contract';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { ago, bold, count, dim, print, printJson, size, tile, when } from '../output.js';
import { confirming, connect, finish, mustSayYes, readPath, wantsJson } from '../program.js';
import { type Acting, acting, examples, json } from './options.js';

const DAYS = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];

interface EditOptions {
  readonly describe?: string;
  readonly pullAt?: string;
  readonly pullOn?: string[];
  readonly pullFrom?: string;
  readonly pull: boolean;
}

/** When news comes in, and what came of it last. */
function scheduleWords({ from, at, days, last }: PullSchedule): string {
  const when = days.length === 0 ? 'every day' : days.map((day) => DAYS[day - 1]).join(', ');
  const then = last ? `; last time (${ago(last.at)} ago): ${last.text}` : '';
  return `news of ${from} comes in at ${at}, ${when}${then}`;
}

/** What goes with an environment, as far as it is known. */
function losses({ drift }: Environment): string {
  const own = drift?.up ?? 0;
  if (own === 0) return 'what exists only there goes';
  return own === 1 ? '1 item exists only there, and goes' : `${count(own)} items exist only there, and go`;
}

/** Commands on environments. */
export function addEnvironments(program: Command): void {
  const env = program.command('env').description('the environments of a site');
  examples(
    acting(
      env
        .command('create')
        .argument('<site/name>', 'the new environment')
        .description('make an environment as a copy of another, or of a snapshot')
        .addOption(new Option('--kind <KIND>', 'dev or staging').choices(['dev', 'staging']).default('staging'))
        .option('--from <SITE/NAME>', 'what to copy; the site’s live unless given')
        .option('--snapshot <ID>', 'copy a snapshot instead')
        .option('--server <NAME>', 'where it is to live; on the site’s own server unless given')
        .option('--without-table <NAME...>', 'leave the rows of a table out')
        .option('--without-area <NAME...>', 'leave an area of files out')
        .option('--without-path <PATH...>', 'leave a path out')
        .option('--accept-trace <NAME...>', 'traces of the source that may stay in the copy')
        .option('--accept-personal <REASON>', 'copy columns that look personal and are not classified')
        .option('--confirm <SITE/NAME>', 'what is copied, where it is of another client'),
    ),
    'tessarion env create threadmill/staging',
    'tessarion env create threadmill/till-test --kind dev --from threadmill/staging --without-area uploads',
  ).action(
    async (
      path: string,
      options: Acting & {
        kind: 'dev' | 'staging';
        from?: string;
        snapshot?: string;
        server?: string;
        withoutTable?: string[];
        withoutArea?: string[];
        withoutPath?: string[];
        acceptTrace?: string[];
        acceptPersonal?: string;
        confirm?: string;
      },
      command: Command,
    ) => {
      const { site, environment } = readPath(path);
      const client = await connect(command);
      const given = <T>(key: string, value: T | undefined): Record<string, T> =>
        value === undefined ? {} : { [key]: value };
      const transfer = await client.call('environmentCreate', {
        params: { site },
        body: {
          name: environment,
          kind: options.kind,
          ...given('from', options.from),
          ...given('snapshot', options.snapshot),
          ...given('server', options.server),
          leaveOut: {
            ...given('tables', options.withoutTable),
            ...given('areas', options.withoutArea),
            ...given('paths', options.withoutPath),
          },
          ...given('acceptTraces', options.acceptTrace),
          ...given('acceptPersonal', options.acceptPersonal),
          ...given('confirm', options.confirm),
        },
      });
      if (!(await finish(client, transfer, options)) || options.json) return;
      const made = await client.call('environmentShow', { params: { site, environment } });
      const login = await client.call('environmentLogins', { params: { site, environment } });
      print(`${made.addresses[0]?.url}  gate: ${login.gate?.user} / ${login.gate?.password}`);
    },
  );
  examples(
    json(env.command('show').argument('<site/name>').description('show an environment')),
    'tessarion env show threadmill/staging',
    'tessarion env show threadmill/live --json',
  ).action(async (path: string, _options: unknown, command: Command) => {
    const one = await (await connect(command)).call('environmentShow', { params: readPath(path) });
    if (wantsJson(command)) return printJson(one);
    print(
      `${tile(one.kind, one.state)} ${bold(one.path)}  ${one.state.replace('-', ' ')}${one.reason === '' ? '' : `: ${one.reason}`}`,
    );
    const rows: [string, string][] = [
      ['address', one.addresses.map((address) => address.url).join(', ')],
      ['editors', one.editorsUrl ?? '–'],
      ['made', `${when(one.madeAt)}${one.madeFrom ? ` from ${one.madeFrom}` : ''}`],
      ...(one.foreignOrigin === null || one.madeFrom?.startsWith(one.foreignOrigin)
        ? []
        : [['holds', `the work of another site: ${one.foreignOrigin}`] as [string, string]]),
      ...(one.drift === null ? [] : [['compared', `${ago(one.drift.at)} ago`] as [string, string]]),
      ['up to date', one.refreshedAt ? `${ago(one.refreshedAt)} ago` : '–'],
      [
        'size',
        one.size
          ? `${count(one.size.files)} files, ${size(one.size.fileBytes)}; ${count(one.size.rows)} rows, ${size(one.size.databaseBytes)}`
          : '–',
      ],
      ['server', one.server],
      ['folder', one.roots.map((root) => root.path).join(', ')],
      ['database', one.databases.join(', ')],
      ...(one.description === null ? [] : [['what for', one.description] as [string, string]]),
      ...(one.schedule === null ? [] : [['schedule', scheduleWords(one.schedule)] as [string, string]]),
      ['gate', one.hasGate ? `closed to strangers (login: tessarion env login ${one.path})` : 'none'],
    ];
    for (const [name, value] of rows) print(`${dim(name.padEnd(11))} ${value}`);
  });
  examples(
    json(env.command('login').argument('<site/name>').description('show the login of a copy’s gate')),
    'tessarion env login threadmill/staging',
    'tessarion env login threadmill/staging --json',
  ).action(async (path: string, _options: unknown, command: Command) => {
    const login = await (await connect(command)).call('environmentLogins', { params: readPath(path) });
    if (wantsJson(command)) return printJson(login);
    print(login.gate ? `${login.gate.user} / ${login.gate.password}` : `${path} has no gate.`);
  });
  examples(
    json(env.command('open').argument('<site/name>').description('print a one-time link past the gate')),
    'tessarion env open threadmill/staging',
    'xdg-open "$(tessarion env open threadmill/staging)"',
  ).action(async (path: string, _options: unknown, command: Command) => {
    const link = await (await connect(command)).call('environmentEnter', { params: readPath(path) });
    if (wantsJson(command)) return printJson(link);
    print(link.url);
  });
  examples(
    json(
      env
        .command('edit')
        .argument('<site/name>')
        .description('say what an environment is for, or let news come in on a schedule')
        .option('--describe <TEXT>', 'what it is for; empty takes it away')
        .option('--pull-at <HH:MM>', 'bring news in at this time of day, in the site’s time zone')
        .option('--pull-on <DAY...>', `only on these days: ${DAYS.join(', ')}`)
        .option('--pull-from <SITE/NAME>', 'where the news comes from; the site’s live unless given')
        .option('--no-pull', 'end the schedule'),
    ),
    'tessarion env edit threadmill/staging --describe "Autumn, with the warmer palette"',
    'tessarion env edit threadmill/staging --pull-at 03:30 --pull-on mon tue wed thu fri',
  ).action(async (path: string, options: EditOptions, command: Command) => {
    const params = readPath(path);
    const days = (options.pullOn ?? []).map((day) => {
      const at = DAYS.indexOf(day.toLowerCase().slice(0, 3));
      if (at === -1) throw new CliError(2, `"${day}" is no day of the week.`, `Days are ${DAYS.join(', ')}.`, '');
      return at + 1;
    });
    const schedule =
      options.pull === false
        ? { schedule: null }
        : options.pullAt === undefined
          ? {}
          : { schedule: { from: options.pullFrom ?? `${params.site}/live`, at: options.pullAt, days } };
    const description = options.describe === undefined ? {} : { description: options.describe };
    if (Object.keys({ ...schedule, ...description }).length === 0)
      throw new CliError(2, 'Nothing is to be changed.', '', 'Name --describe, --pull-at or --no-pull.');
    const client = await connect(command);
    const { etag } = await client.call('environmentShow', { params });
    const one = await client.call('environmentEdit', { params, body: { ...description, ...schedule }, etag });
    if (wantsJson(command)) return printJson(one);
    if (options.describe !== undefined) print(one.description ?? `${one.path} has no description any more.`);
    if ('schedule' in schedule) print(one.schedule ? scheduleWords(one.schedule) : 'Nothing comes in by itself.');
  });
  examples(
    json(
      env
        .command('whence')
        .argument('<site/name>')
        .argument('<item>', 'its id, such as product:3, or its title')
        .description('say when a thing came here: in which transfers, by which request, approved by whom'),
    ),
    'tessarion env whence threadmill/live product:3',
    'tessarion env whence threadmill/live "Wool throw" --json',
  ).action(async (path: string, item: string, _options: unknown, command: Command) => {
    const visits = await (await connect(command)).call('itemHistory', { params: readPath(path), query: { item } });
    if (wantsJson(command)) return printJson(visits);
    if (visits.length === 0)
      return print(
        `No transfer has written "${item}" onto ${path}.\n${dim('It was there before, was made there, or has another name.')}`,
      );
    for (const one of visits) {
      const former = one.formerTitle === null ? '' : `, "${one.formerTitle}" before`;
      print(`${when(one.at)}  ${bold(one.title)} ${one.change}${former}`);
      print(`  ${one.kind} ${one.transfer}${one.from ? ` from ${one.from}` : ''}, by ${one.person}`);
      if (one.undoneBy) print(`  taken back by ${one.undoneBy}`);
      if (one.request) {
        const approved = one.approvedBy.length > 0 ? `approved by ${one.approvedBy.join(', ')}` : 'approved by nobody';
        print(dim(`  ${one.request.id} "${one.request.title}" of ${one.request.author}, ${approved}`));
      }
      if (one.urgent) print(dim(`  urgent: ${one.urgent}`));
      if (one.override) print(dim(`  outside its window: ${one.override}`));
    }
  });
  examples(
    acting(
      env
        .command('rename')
        .argument('<site/name>')
        .argument('<new-name>')
        .description('give a copy another name; its address follows, and it is closed meanwhile')
        .option('--yes', 'answers the question'),
    ),
    'tessarion env rename threadmill/staging-2 warm-palette',
    'tessarion env rename threadmill/staging-2 warm-palette --yes --detach',
  ).action(async (path: string, name: string, options: Acting & { yes?: boolean }, command: Command) => {
    const client = await connect(command);
    const params = readPath(path);
    const one = await client.call('environmentShow', { params });
    const { environments } = await client.call('siteShow', { params: { site: params.site } });
    if (one.kind === 'live')
      throw new CliError(
        3,
        `${path} is live and keeps its name.`,
        'Its addresses are its visitors’.',
        'Rename a copy.',
      );
    if (environments.some((other) => other.name === name))
      throw new CliError(
        3,
        `${params.site}/${name} is there already.`,
        'Names stand for one thing.',
        'Choose another.',
      );
    if (!options.yes)
      await mustSayYes(
        `Rename ${path} to ${name}? It gets a new address, and is closed while that is written.`,
        'Nothing was renamed.',
      );
    await finish(client, await client.call('environmentRename', { params, body: { name } }), options);
  });
  examples(
    acting(
      env
        .command('remove')
        .argument('<site/name>')
        .description('remove a copy with its files and databases')
        .option('--confirm <SITE/NAME>', 'names it in full'),
    ),
    'tessarion env remove threadmill/till-test',
    'tessarion env remove threadmill/till-test --confirm threadmill/till-test',
  ).action(async (path: string, options: Acting & { confirm?: string }, command: Command) => {
    const client = await connect(command);
    const one = await client.call('environmentShow', { params: readPath(path) });
    const room = one.size ? ` (${size(one.size.fileBytes + one.size.databaseBytes)})` : '';
    const question = `Remove ${one.path}${room}; ${losses(one)}`;
    const transfer = await confirming({ given: options.confirm, question, thing: one.path }, (confirm = '') =>
      client.call('environmentRemove', { params: readPath(path), query: { confirm } }),
    );
    await finish(client, transfer, options);
  });
}
