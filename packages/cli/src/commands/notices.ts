import type { Notice } from '@tessarion/contract';
import { NOTICE_KINDS } from '@tessarion/core';
import type { Command } from 'commander';
import { ago, cut, dim, print, printJson, printTable } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { examples, json } from './options.js';

const ENDS: Partial<Record<Notice['kind'], string>> = { 'transfer-done': 'done', 'transfer-failed': 'did not go' };

const wordsOf = ({ kind, by, words }: Notice): string =>
  `${by === null ? '' : `${by}: `}${ENDS[kind] ?? NOTICE_KINDS[kind]}${words === '' ? '' : `: ${words}`}`;

/** Commands on what one was told. */
export function addNotices(program: Command): void {
  const notice = program.command('notice').description('what you were told of change requests, transfers and guests');
  examples(
    json(
      notice
        .command('list')
        .description('list what you were told, newest first')
        .option('--unseen', 'only what you have not seen')
        .option('--limit <N>', 'how many', '20')
        .option('--after <CURSOR>', 'go on where the last page ended'),
    ),
    'tessarion notice list --unseen',
    'tessarion notice list --limit 50 --json',
  ).action(async (options: { unseen?: boolean; limit: string; after?: string }, command: Command) => {
    const page = await (await connect(command)).call('noticeList', {
      query: {
        limit: Number(options.limit),
        ...(options.unseen ? { unseen: 'yes' as const } : {}),
        ...(options.after === undefined ? {} : { cursor: options.after }),
      },
    });
    if (wantsJson(command)) return printJson(page);
    if (page.items.length === 0) return print(options.unseen ? 'Nothing new.' : 'Nobody has told you anything yet.');
    printTable(
      ['id', 'about', 'what', 'when'],
      page.items.map((one) => [
        one.seenAt === null ? `${one.id} *` : one.id,
        cut(`${one.request ?? one.transfer ?? one.site} ${one.title}`, 34),
        cut(wordsOf(one), 34),
        ago(one.at),
      ]),
      [],
      1,
    );
    if (page.unseen > 0) print(dim(`* not seen: ${page.unseen} in all`));
    if (page.next) print(dim(`More: --after "${page.next}"`));
  });
  examples(
    notice
      .command('seen')
      .argument('[id]', 'all of them, when it is left out')
      .description('note that you have seen it'),
    'tessarion notice seen o-8k2m4q9x1c',
    'tessarion notice seen',
  ).action(async (id: string | undefined, _options: unknown, command: Command) => {
    const client = await connect(command);
    if (id === undefined) await client.call('noticesSeen');
    else await client.call('noticeSeen', { params: { id } });
    print(id === undefined ? 'All of them are seen.' : `${id} is seen.`);
  });
}
