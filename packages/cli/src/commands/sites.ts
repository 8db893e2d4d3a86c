import { type Environment, EnvironmentKind, EnvironmentState } from '@tessarion/contract';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { ago, bold, cut, dim, legend, print, printJson, printTable, size, tile } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { addBringing } from './bringing.js';
import { examples, json } from './options.js';

/** Commands on sites. */
export function addSites(program: Command): void {
  const site = program.command('site').description('the client sites');
  examples(
    json(
      site
        .command('list')
        .description('list the sites with their environments')
        .option('--client <NAME>', 'only sites of this client')
        .option('--tag <NAME>', 'only sites with this tag')
        .addOption(new Option('--kind <KIND>', 'only with one of this kind').choices(EnvironmentKind.options))
        .addOption(new Option('--state <STATE>', 'only with one in this state').choices(EnvironmentState.options)),
    ),
    'tessarion site list',
    'tessarion site list --state failed',
  ).action(
    async (
      options: { client?: string; tag?: string; kind?: 'dev' | 'staging' | 'live'; state?: Environment['state'] },
      command: Command,
    ) => {
      const { client, tag, kind, state } = options;
      const sites = await (await connect(command)).call('siteList', {
        query: {
          ...(client === undefined ? {} : { client }),
          ...(tag === undefined ? {} : { tag }),
          ...(kind === undefined ? {} : { kind }),
          ...(state === undefined ? {} : { state }),
        },
      });
      if (wantsJson(command)) return printJson(sites);
      if (sites.length === 0)
        return print(
          Object.values({ client, tag, kind, state }).every((one) => one === undefined)
            ? 'No sites yet. Bring one in: tessarion site adopt --help'
            : 'No site is like that. See all of them: tessarion site list',
        );
      const states = new Set(sites.flatMap((one) => one.environments.map((e) => e.state)));
      printTable(
        ['site', 'client', 'environments', 'what is going on'],
        sites.map((one) => [
          bold(one.name),
          cut(one.client, 28),
          one.environments.map((e) => `${tile(e.kind, e.state)} ${e.name}`).join('  '),
          cut(one.environments.map((e) => e.reason).find((reason) => reason !== '') ?? '', 34),
        ]),
      );
      print(dim(legend(states)));
      const compared = sites.flatMap((one) => one.environments.flatMap((e) => (e.drift ? [e.drift.at] : []))).sort();
      // What is in step was so when it was looked at.
      if (compared[0] !== undefined && sites.length > 0)
        print(
          compared.length === 1
            ? `Compared ${ago(compared[0])} ago.`
            : `Compared between ${ago(compared.at(-1) ?? null)} and ${ago(compared[0])} ago; each by itself: tessarion site show SITE`,
        );
    },
  );
  examples(
    json(
      site
        .command('tag')
        .argument('<site>')
        .argument('[tag...]', 'all that it is to have')
        .description('show or say by which words a site is put together with others, for lists and freezes')
        .option('--none', 'take all of them away'),
    ),
    'tessarion site tag threadmill shop north',
    'tessarion site tag threadmill',
  ).action(async (name: string, tags: string[], options: { none?: boolean }, command: Command) => {
    if (options.none && tags.length > 0) throw new CliError(2, 'Name tags, or --none.', 'Both were given.', '');
    const client = await connect(command);
    const shown = await client.call('siteShow', { params: { site: name } });
    const tagged =
      tags.length === 0 && !options.none
        ? shown
        : await client.call('siteTag', { params: { site: name }, body: { tags }, etag: shown.etag });
    if (wantsJson(command)) printJson(tagged);
    else print(`${tagged.name}: ${tagged.tags.join(', ') || 'no tags'}.`);
  });
  examples(
    json(site.command('show').argument('<site>').description('show a site and its environments')),
    'tessarion site show threadmill',
    'tessarion site show threadmill --json',
  ).action(async (name: string, _options: unknown, command: Command) => {
    const shown = await (await connect(command)).call('siteShow', { params: { site: name } });
    if (wantsJson(command)) return printJson(shown);
    print(
      `${bold(shown.name)}  ${shown.client}  profile ${shown.profile ?? 'none'}${shown.profileVersion === null ? '' : ` version ${shown.profileVersion}`}  times in ${shown.timeZone}`,
    );
    if (shown.tags.length > 0) print(`Tags: ${shown.tags.join(', ')}`);
    print();
    printTable(
      ['', 'environment', 'address', 'compared', 'age', 'from', 'files', 'database'],
      shown.environments.map((e) => [
        tile(e.kind, e.state),
        e.name,
        e.addresses[0]?.url ?? '',
        e.drift === null ? '' : ago(e.drift.at),
        e.kind === 'live' ? '' : ago(e.refreshedAt),
        (e.madeFrom ?? '').replace(`${shown.name}/`, ''),
        e.size ? size(e.size.fileBytes) : '–',
        e.size ? size(e.size.databaseBytes) : '–',
      ]),
      [3, 4, 6, 7],
      5,
    );
    for (const e of shown.environments) if (e.reason !== '') print(`${e.path}: ${e.reason}`);
  });
  addBringing(site);
}
