import { type ExportForm, TransferKind, TransferState } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { arrow, bold, cut, dim, print, printJson, printTable, say, size, when, writeOut } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { examples, exportForm, given, json } from './options.js';

const FILTERS = ['site', 'kind', 'state', 'person', 'since', 'until'] as const;

const filtering = (command: Command): Command =>
  command
    .option('--site <NAME>')
    .addOption(new Option('--kind <KIND>').choices(TransferKind.options))
    .addOption(new Option('--state <STATE>').choices(TransferState.options))
    .option('--person <NAME>')
    .option('--since <TIME>', 'RFC 3339, such as 2026-11-01T00:00:00Z')
    .option('--until <TIME>');

/** Commands on transfers. */
export function addTransfers(program: Command): void {
  const transfer = program.command('transfer').description('every push, reset, copy and restore');
  examples(
    json(
      filtering(transfer.command('list').description('list transfers, newest first'))
        .option('--limit <N>', 'how many', '20')
        .option('--after <CURSOR>', 'go on where the last page ended'),
    ),
    'tessarion transfer list --site threadmill',
    'tessarion transfer list --state failed --json',
  ).action(async (options: Record<string, string>, command: Command) => {
    const query = {
      ...given(FILTERS, options),
      limit: Number(options.limit),
      ...(options.after ? { cursor: options.after } : {}),
    };
    const page = await (await connect(command)).call('transferList', { query });
    if (wantsJson(command)) return printJson(page);
    if (page.items.length === 0) return print('No transfers.');
    printTable(
      ['id', 'when', 'what', 'from, onto', 'state', 'by'],
      page.items.map((one) => [
        one.id,
        when(one.createdAt),
        one.kind,
        `${one.from === null ? '' : `${one.from} ${arrow} `}${one.onto}`,
        one.undoneBy ? 'undone' : one.placeInLine === null ? one.state : `${one.placeInLine} before it`,
        cut(one.person, 14),
      ]),
      [],
      3,
    );
    if (page.next) print(dim(`More: --after "${page.next}"`));
  });
  examples(
    filtering(
      transfer
        .command('export')
        .description('write transfers to the standard output, newest first')
        .addOption(exportForm()),
    ),
    'tessarion transfer export --site threadmill --since 2026-11-01T00:00:00Z > november.jsonl',
    'tessarion transfer export --as csv --state failed > failed.csv',
  ).action(async (options: Record<string, string>, command: Command) => {
    const query = { ...given(FILTERS, options), as: options.as as ExportForm };
    await writeOut(await (await connect(command)).call('transferExport', { query }));
  });
  examples(
    json(transfer.command('show').argument('<id>').description('show a transfer: who, when, what, how much')),
    'tessarion transfer show t-8k2m4q9x1c',
    'tessarion transfer show t-8k2m4q9x1c --json',
  ).action(async (id: string, _options: unknown, command: Command) => {
    const one = await (await connect(command)).call('transferShow', { params: { id } });
    if (wantsJson(command)) return printJson(one);
    say(bold(one.sentence.map((piece) => piece.text).join('')));
    print(
      `${one.kind} ${one.id}, ${one.state}, by ${one.person}, ${when(one.createdAt)}${one.undoneBy ? `, undone by ${one.undoneBy}` : ''}${one.undoOf ? `, undoes ${one.undoOf}` : ''}`,
    );
    if (one.request) print(`Delivers change request ${one.request}.`);
    if (one.urgent) print(`Urgent, past approval: ${one.urgent}`);
    if (one.override) print(`Outside its window: ${one.override}`);
    print(`${counted(one.rows, 'row')}, ${counted(one.files, 'file')}, ${size(one.bytes)}`);
    if (one.failure) print(`${one.failure.message} ${one.failure.next}`);
    print();
    printTable(
      ['', 'step', 'took', ''],
      one.steps.map((step) => [
        step.state === 'failed' ? '!' : step.state === 'done' ? ' ' : '·',
        step.title,
        step.startedAt && step.endedAt
          ? `${((Date.parse(step.endedAt) - Date.parse(step.startedAt)) / 1000).toFixed(2)} s`
          : '',
        cut(step.detail ?? '', 56),
      ]),
      [2],
    );
    if (one.items.length > 0) print();
    if (one.items.length > 0)
      printTable(
        ['kind', 'title', 'change', 'fields'],
        one.items.slice(0, 50).map((item) => [item.kind, cut(item.title, 44), item.change, cut(item.detail, 30)]),
      );
    for (const check of one.checks)
      if (check.state !== 'passed') print(`${check.state === 'failed' ? 'Stopped by' : 'Note'}: ${check.message}`);
    if (one.proof.length > 0) print('\nRead again afterwards');
    for (const point of one.proof) print(`${point.state === 'passed' ? '  holds ' : '! not so'}  ${point.message}`);
    for (const warning of one.warnings) print(`Note: ${warning}`);
    for (const remain of one.remains) print(`Stays: ${remain}`);
    for (const line of one.log) print(dim(`${when(line.at)}  ${line.text}`));
  });
  examples(
    transfer
      .command('acknowledge')
      .argument('<id>')
      .description('say that you know of a failed one; its environment is no longer marked by it'),
    'tessarion transfer acknowledge t-8k2m4q9x1c',
    'tessarion transfer acknowledge t-8k2m4q9x1c --url http://127.0.0.1:7070',
  ).action(async (id: string, _options: unknown, command: Command) => {
    await (await connect(command)).call('transferAcknowledge', { params: { id } });
    print(`${id} is acknowledged.`);
  });
}
