import { readFile } from 'node:fs/promises';
import type { ExportForm, JournalEntry, JournalHead } from '@tessarion/contract';
import { actWords } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { count, cut, dim, print, printJson, printTable, when, writeOut } from '../output.js';
import { connect, mustSayYes, wantsJson } from '../program.js';
import { readSecret } from '../settings.js';
import { examples, exportForm, given, json } from './options.js';

const FILTERS = ['actor', 'act', 'outcome', 'thing', 'find', 'since', 'until'] as const;

const filtering = (command: Command): Command =>
  command
    .option('--actor <WHO>', 'such as "person p-8k2m4q9x1c"')
    .option('--act <NAME>', 'such as pushCreate')
    .addOption(new Option('--outcome <OUTCOME>').choices(['done', 'refused', 'failed']))
    .option('--thing <NAME>', 'such as threadmill/live')
    .option('--find <WORDS>', 'a part of the thing, of who acted, or of the details')
    .option('--since <TIME>', 'RFC 3339, such as 2026-11-01T00:00:00Z')
    .option('--until <TIME>');

/** What an entry is about, in a few words. */
const words = ({ details }: JournalEntry): string =>
  Object.entries(details)
    .filter(([, value]) => typeof value === 'string' || typeof value === 'number')
    .map(([name, value]) => `${name} ${value}`)
    .join(', ');

/** What somebody did, and to what. */
function sentence({ act, thing, called, details }: JournalEntry): string {
  const [before, hasThing, after] = actWords(act, details.says);
  return [before, ...(hasThing ? [called ?? thing] : []), after].filter((part) => part !== '').join(' ');
}

const MOST_HEADS = 1000;

/** The newest heads of a file; a torn last line is passed over. @throws {CliError} */
async function headsIn(path: string): Promise<JournalHead[]> {
  const text = await readFile(path, 'utf8').catch((error: unknown) => {
    throw new CliError(
      1,
      `${path} cannot be read.`,
      error instanceof Error ? error.message : String(error),
      'Name a file that holds heads of the journal, one a line.',
    );
  });
  const heads = text.split('\n').flatMap((line) => {
    try {
      return [JSON.parse(line) as JournalHead];
    } catch {
      return [];
    }
  });
  if (heads.length === 0)
    throw new CliError(
      1,
      `${path} holds no heads of the journal.`,
      'A head is one line of JSON with position, seal, at and signature.',
      'Name a file that TESSARION_JOURNAL_HEADS has written.',
    );
  return heads.slice(-MOST_HEADS);
}

/** Commands on the journal. */
export function addJournal(program: Command): void {
  const journal = program.command('journal').description('the sealed record of everything that was done');
  examples(
    json(
      filtering(journal.command('list').description('list what was done and refused, newest first'))
        .option('--limit <N>', 'how many', '20')
        .option('--after <CURSOR>', 'go on where the last page ended'),
    ),
    'tessarion journal list --thing threadmill/live',
    'tessarion journal list --outcome refused --since 2026-11-01T00:00:00Z --json',
  ).action(async (options: Record<string, string>, command: Command) => {
    const query = {
      ...given(FILTERS, options),
      limit: Number(options.limit),
      ...(options.after ? { cursor: options.after } : {}),
    };
    const page = await (await connect(command)).call('journalList', { query });
    if (wantsJson(command)) return printJson(page);
    if (page.items.length === 0) return print('Nothing in the journal fits.');
    printTable(
      ['at', 'who', 'what', '', 'more'],
      page.items.map((one) => [
        when(one.at),
        cut(one.name ?? one.actor, 14),
        cut(sentence(one), 44),
        one.outcome === 'done' ? '' : one.outcome,
        words(one),
      ]),
      [],
      4,
    );
    if (page.next) print(dim(`More: --after "${page.next}"`));
  });
  examples(
    json(
      journal
        .command('verify')
        .description('check the seal of every entry')
        .option('--heads <FILE>', 'how far it reached, as kept elsewhere: heads as JSON, one a line'),
    ),
    'tessarion journal verify',
    'tessarion journal verify --heads /mnt/elsewhere/heads.jsonl',
  ).action(async (options: { heads?: string }, command: Command) => {
    const body = options.heads === undefined ? undefined : { heads: await headsIn(options.heads) };
    const verdict = await (await connect(command)).call('journalVerify', { body });
    if (wantsJson(command)) printJson(verdict);
    else {
      print(
        `${count(verdict.checked)} entries checked, ${verdict.unsealed === 0 ? 'none waits' : `${count(verdict.unsealed)} wait`} for a seal${verdict.head ? `; written down outside up to ${count(verdict.head.position)}, ${when(verdict.head.at)}` : ''}.`,
      );
      for (const fault of verdict.faults) print(fault.words);
    }
    if (verdict.faults.length > 0)
      throw new CliError(
        1,
        'The journal is not what was written.',
        `${count(verdict.faults.length)} of its entries do not hold.`,
        'Compare it with a backup of the records.',
      );
    if (!wantsJson(command)) print('Everything is as it was written.');
  });
  examples(
    json(
      journal
        .command('erase')
        .description('take a value that sites had of somebody out of all records')
        .requiredOption('--value-from <FILE>', 'a file that holds it and nothing else; - reads the standard input')
        .option('--yes', 'answers the question'),
    ),
    'tessarion journal erase --value-from name.txt',
    'printf "Ingrid Solheim" | tessarion journal erase --value-from - --yes',
  ).action(async (options: { valueFrom: string; yes?: boolean }, command: Command) => {
    const value = await readSecret(options.valueFrom, '--value-from');
    if (!options.yes)
      await mustSayYes(`Take "${value}" out of all records and the journal for good?`, 'Nothing was erased.');
    const erased = await (await connect(command)).call('valueErase', { body: { value } });
    if (wantsJson(command)) return printJson(erased);
    print(
      `Taken out of ${count(erased.rows)} ${erased.rows === 1 ? 'record' : 'records'} and ${count(erased.entries)} ${erased.entries === 1 ? 'entry' : 'entries'} of the journal.`,
    );
    print(dim('Snapshots, baselines and change sets keep what they hold until they are removed.'));
  });
  examples(
    filtering(
      journal
        .command('export')
        .description('write the journal to the standard output, newest first')
        .addOption(exportForm()),
    ),
    'tessarion journal export --since 2026-11-01T00:00:00Z > november.jsonl',
    'tessarion journal export --as csv --thing threadmill/live > live.csv',
  ).action(async (options: Record<string, string>, command: Command) => {
    const query = { ...given(FILTERS, options), as: options.as as ExportForm };
    await writeOut(await (await connect(command)).call('journalExport', { query }));
  });
}
