import * as fs from 'node:fs/promises';
import { checkProfile, type LayerDocument, type ProfileMistake, readLayer } from '@tessarion/core';
import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { cut, print, printJson, printTable, say, when } from '../output.js';
import { ask, connect, mustSayYes, readPath, wantsJson } from '../program.js';

/** Commands on profiles. */
export function addProfileCommands(program: Command): void {
  const profile = program.command('profile').description('what kinds of site are made of');
  profile
    .command('check')
    .argument('<file>')
    .description('name every mistake in a profile with its line')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile check quayside.yaml\n  tessarion profile check quayside.yaml --json',
    )
    .action(async (file: string, _options: unknown, command: Command) => {
      const text = await readText(file);
      const checked = checkDocument(text);
      if (wantsJson(command)) printJson(checked.ok ? { ok: true, mistakes: [] } : checked);
      if (!checked.ok)
        throw new CliError(
          1,
          `${file} has ${checked.mistakes.length === 1 ? 'a mistake' : `${checked.mistakes.length} mistakes`}.`,
          checked.mistakes
            .map((one) => `line ${one.line}${one.path === '' ? '' : `, ${one.path}`}: ${one.message}`)
            .join('\n'),
          'Correct these lines and check it again.',
        );
      if (!wantsJson(command))
        print(
          `${file} is right${checked.isComposed ? ' by itself; when it is saved it is checked with all that goes with it' : ''}: ${checked.document.title}, ${checked.document.areas?.length ?? 0} areas, ${Object.values(checked.document.databases ?? {}).flatMap((one) => Object.keys(one.tables)).length} tables.`,
        );
    });
  profile
    .command('save')
    .argument('<file>')
    .description('save a new version of a profile')
    .option('--edited <VERSION>', 'the version that was edited; refused when there is a newer one by now')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile save quayside.yaml\n  tessarion profile save quayside.yaml --edited 3',
    )
    .action(async (file: string, options: { edited?: string }, command: Command) => {
      const text = await readText(file);
      const read = readLayer(text);
      const name = read.ok ? read.layer.document.name : (/^name:\s*([a-z0-9-]+)/m.exec(text)?.[1] ?? 'profile');
      const client = await connect(command);
      const etag = options.edited ?? (await client.call('profileList')).find((one) => one.name === name)?.etag ?? null;
      const saved = await client.call('profileSave', { params: { name }, body: { text }, etag });
      if (wantsJson(command)) return printJson(saved);
      print(
        `Saved ${saved.name} version ${saved.version}${saved.sites.length > 0 ? `, used by ${saved.sites.join(', ')}` : ''}.`,
      );
    });
  profile
    .command('list')
    .description('list the profiles')
    .option('--json', 'one JSON document')
    .addHelpText('after', '\nExamples:\n  tessarion profile list\n  tessarion profile list --json')
    .action(async (_options: unknown, command: Command) => {
      const profiles = await (await connect(command)).call('profileList');
      if (wantsJson(command)) return printJson(profiles);
      printTable(
        ['profile', 'version', 'title', 'saved', 'sites'],
        profiles.map((one) => [
          one.name,
          String(one.version),
          one.title,
          when(one.createdAt),
          String(one.sites.length),
        ]),
        [1, 4],
        2,
      );
    });
  profile
    .command('show')
    .argument('<name>')
    .description('print a profile')
    .option('--version-number <N>', 'an older version')
    .option('--effective', 'as it is composed, with the part behind each rule; also by the name of a site')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile show quayside --version-number 1\n  tessarion profile show threadmill --effective',
    )
    .action(async (name: string, options: { versionNumber?: string; effective?: boolean }, command: Command) => {
      if (options.effective) return showEffective(name, command);
      const shown = await (await connect(command)).call('profileShow', {
        params: { name },
        query: options.versionNumber === undefined ? {} : { version: Number(options.versionNumber) },
      });
      if (wantsJson(command)) return printJson(shown);
      print(shown.text.trimEnd());
    });
  profile
    .command('start')
    .argument('<environment>', 'site/name')
    .description('read a site and write a first profile of it; nothing is saved')
    .option('--name <NAME>', 'name of the profile; otherwise the site’s')
    .option('--into <FILE>', 'write it there, and list here what was found')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile start threadmill/live --into threadmill.yaml\n  tessarion profile start threadmill/live --name quayside --json',
    )
    .action(async (path: string, options: { name?: string; into?: string }, command: Command) => {
      const client = await connect(command);
      const started = await client.call('profileStart', {
        params: readPath(path),
        body: options.name === undefined ? {} : { name: options.name },
      });
      if (options.into !== undefined) await writeNew(options.into, started.text);
      if (wantsJson(command)) return printJson(started);
      if (options.into === undefined) return print(started.text.trimEnd());
      const rank = ['open', 'likely', 'sure'];
      printTable(
        ['', 'what', 'says', 'because'],
        started.findings
          .toSorted((a, b) => rank.indexOf(a.certainty) - rank.indexOf(b.certainty))
          .map((one) => [one.certainty, cut(one.what, 32), cut(one.says, 18), cut(one.reason, 40)]),
      );
      say(`Written to ${options.into}. What is open is yours to decide; then: tessarion profile save ${options.into}`);
    });
  profile
    .command('use')
    .argument('<name>')
    .requiredOption('--site <SITE>', 'site that gets this profile')
    .description('give a site another profile')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile use quayside --site threadmill\n  tessarion profile use threadmill --site threadmill --json',
    )
    .action(async (name: string, options: { site: string }, command: Command) => {
      const client = await connect(command);
      const params = { site: options.site };
      const { etag } = await client.call('siteShow', { params });
      const site = await client.call('profileUse', { params, body: { profile: name }, etag });
      if (wantsJson(command)) return printJson(site);
      print(`${site.name} has the profile ${site.profile} version ${site.profileVersion}.`);
    });
  profile
    .command('classify')
    .argument('<site>')
    .argument('<table>')
    .argument('<class>', CLASSES.join(', '))
    .description('give a table a class in a new version of the site’s profile')
    .option('--database <NAME>', 'where the site has several')
    .option('--confirm <TABLE>', 'names the table where collected or local data would become authored')
    .option('--yes', 'answers every other question')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile classify threadmill coupon authored\n  tessarion profile classify threadmill coupon_use collected --yes',
    )
    .action((site: string, table: string, name: string, options: ClassifyOptions, command: Command) =>
      classify([site, table, name], options, command),
    );
}

/** Checks what can be checked without the service: a part, or lines that stand on a base, only by themselves. */
function checkDocument(
  text: string,
):
  | { readonly ok: true; readonly document: LayerDocument; readonly isComposed: boolean }
  | { readonly ok: false; readonly mistakes: readonly ProfileMistake[] } {
  const read = readLayer(text);
  if (!read.ok) return read;
  const { document } = read.layer;
  const isComposed = document.tessarion === 'part/1' || document.base !== undefined || document.parts !== undefined;
  const checked = isComposed ? undefined : checkProfile(text);
  return checked && !checked.ok ? checked : { ok: true, document, isComposed };
}

async function showEffective(name: string, command: Command): Promise<void> {
  const client = await connect(command);
  const site = (await client.call('siteList', { query: {} })).find((one) => one.name === name);
  const profile = site ? site.profile : name;
  if (profile === null)
    throw new CliError(1, `${name} has no profile.`, '', `Make one: tessarion profile start ${name}/live`);
  const shown = await client.call('profileEffective', { params: { name: profile } });
  if (wantsJson(command)) return printJson(shown);
  print(`# composed of ${shown.layers.map((one) => `${one.name} ${one.version}`).join(', ')}`);
  print(shown.text.trimEnd());
}

const CLASSES = ['authored', 'collected', 'local', 'derived', 'unclassified'] as const;

interface ClassifyOptions {
  readonly database?: string;
  readonly confirm?: string;
  readonly yes?: boolean;
}

/** Gives a table a class, after saying which sites that reaches. */
async function classify(
  [site, table, name]: readonly [string, string, string],
  options: ClassifyOptions,
  command: Command,
): Promise<void> {
  const found = CLASSES.find((one) => one === name);
  if (!found) throw new CliError(2, `"${name}" is no data class.`, `The classes are ${CLASSES.join(', ')}.`, '');
  const client = await connect(command);
  const body = {
    table,
    class: found,
    ...(options.database === undefined ? {} : { database: options.database }),
  };
  const said = await client.call('profileClassify', { params: { site }, body: { ...body, trial: true } });
  const sites = [...said.sites, ...(said.reachesOthers ? ['sites that you may not see'] : [])].join(', ');
  const reach = `${table} becomes ${said.class} (it is ${said.before}) in ${said.profile} version ${said.version}, which reaches ${sites}`;
  const isGrave = said.class === 'authored' && (said.before === 'collected' || said.before === 'local');
  let { confirm } = options;
  if (isGrave && confirm === undefined)
    confirm = await ask(
      `${reach}. What visitors made would be written onto live. Type ${table}: `,
      `--confirm ${table}`,
    );
  else if (!isGrave && !options.yes) await mustSayYes(`${reach}. Go on?`, 'Nothing was saved.');
  const saved = await client.call('profileClassify', {
    params: { site },
    body: { ...body, ...(confirm === undefined ? {} : { confirm }) },
  });
  if (wantsJson(command)) return printJson(saved);
  print(`Saved ${saved.profile} version ${saved.version}: ${table} is ${saved.class}, on ${saved.sites.join(', ')}.`);
}

async function writeNew(path: string, text: string): Promise<void> {
  try {
    await fs.writeFile(path, text, { flag: 'wx' });
  } catch (error) {
    throw new CliError(
      2,
      `${path} cannot be written.`,
      error instanceof Error ? error.message : String(error),
      'Name a file that is not there yet.',
    );
  }
}

async function readText(path: string): Promise<string> {
  try {
    return await fs.readFile(path, 'utf8');
  } catch (error) {
    throw new CliError(
      2,
      `${path} cannot be read.`,
      error instanceof Error ? error.message : String(error),
      'Name a file that exists.',
    );
  }
}
