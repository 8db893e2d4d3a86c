import { counted } from '@tessarion/core';
import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { print, printJson } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { examples, json } from './options.js';
import { byId, printRequest, printThreads } from './print-request.js';

/** Commands of who reviews: verdicts, comments, what was seen. */
export function addReview(program: Command): void {
  const review = program.command('review').description('say what you think of a change request');
  const verdict = (says: 'approve' | 'return', description: string, ...shown: string[]): void => {
    const command = review
      .command(says)
      .argument('<id>')
      .description(description)
      .option('--revision <N>', 'the revision that you looked at; the newest, when it is left out');
    if (says === 'return') command.requiredOption('--reason <TEXT>', 'what is to be mended');
    else command.option('--words <TEXT>', 'something to go with it');
    examples(json(command), ...shown).action(
      async (id: string, options: { revision?: string; reason?: string; words?: string }, run: Command) => {
        const client = await connect(run);
        const revision =
          options.revision === undefined
            ? (await client.call('requestShow', byId(id))).revision
            : Number(options.revision);
        const words = options.reason ?? options.words;
        const changed = await client.call('verdictGive', {
          ...byId(id),
          body: { says, revision, ...(words === undefined ? {} : { words }) },
        });
        if (wantsJson(run)) printJson(changed);
        else printRequest(changed);
      },
    );
  };
  verdict(
    'approve',
    'approve what the request would write, as you saw it',
    'tessarion review approve q-8k2m4q9x1c',
    'tessarion review approve q-8k2m4q9x1c --revision 2 --words "Well done"',
  );
  verdict(
    'return',
    'send it back, with a reason',
    'tessarion review return q-8k2m4q9x1c --reason "The price of the throw is wrong"',
    'tessarion review return q-8k2m4q9x1c --revision 2 --reason "Not before Friday"',
  );
  examples(
    json(
      review
        .command('comment')
        .argument('<id>')
        .argument('<text>', 'in Markdown; @MAIL calls somebody')
        .description('comment on a request, an item or a field of it, or reply in a thread')
        .option('--item <ID>')
        .option('--field <NAME>')
        .option('--reply <THREAD>'),
    ),
    'tessarion review comment q-8k2m4q9x1c "Is it russet, or rust?" --item product:1 --field title',
    'tessarion review comment q-8k2m4q9x1c "Rust it is." --reply c-3f9d2a7k5m',
  ).action(
    async (id: string, text: string, options: { item?: string; field?: string; reply?: string }, command: Command) => {
      const changed = await (await connect(command)).call('commentAdd', {
        ...byId(id),
        body: {
          text,
          ...(options.item === undefined ? {} : { item: options.item }),
          ...(options.field === undefined ? {} : { field: options.field }),
          ...(options.reply === undefined ? {} : { thread: options.reply }),
        },
      });
      if (wantsJson(command)) printJson(changed);
      else printThreads(changed);
    },
  );
  examples(
    json(
      review
        .command('reword')
        .argument('<id>')
        .argument('<comment>')
        .argument('<text>')
        .description('change a comment of your own; what it said before stays readable'),
    ),
    'tessarion review reword q-8k2m4q9x1c c-3f9d2a7k5m "Is it russet, or rust brown?"',
    'tessarion review reword q-8k2m4q9x1c c-3f9d2a7k5m "Rust." --json',
  ).action(async (id: string, comment: string, text: string, _options: unknown, command: Command) => {
    const client = await connect(command);
    const { threads } = await client.call('requestShow', byId(id));
    const former = threads.flatMap((one) => one.comments).find((one) => one.id === comment);
    // One that is not there is refused by the service, which knows why.
    const changed = await client.call('commentEdit', {
      params: { id, comment },
      body: { text },
      etag: former?.etag ?? '*',
    });
    if (wantsJson(command)) printJson(changed);
    else printThreads(changed);
  });
  examples(
    json(
      review
        .command('remove-comment')
        .argument('<id>')
        .argument('<comment>')
        .description('remove a comment of your own'),
    ),
    'tessarion review remove-comment q-8k2m4q9x1c c-3f9d2a7k5m',
    'tessarion review remove-comment q-8k2m4q9x1c c-3f9d2a7k5m --json',
  ).action(async (id: string, comment: string, _options: unknown, command: Command) => {
    const changed = await (await connect(command)).call('commentRemove', { params: { id, comment } });
    if (wantsJson(command)) printJson(changed);
    else printThreads(changed);
  });
  examples(
    json(
      review
        .command('seen')
        .argument('<id>')
        .argument('[item...]', 'all of them, when they are left out')
        .description('mark items as seen, as they are now')
        .option('--undone', 'they are not seen'),
    ),
    'tessarion review seen q-8k2m4q9x1c product:3 page:7',
    'tessarion review seen q-8k2m4q9x1c --undone',
  ).action(async (id: string, wanted: string[], options: { undone?: boolean }, command: Command) => {
    const client = await connect(command);
    const { items } = await client.call('requestShow', byId(id));
    const unknown = wanted.find((one) => !items.some((item) => item.id === one));
    if (unknown !== undefined)
      throw new CliError(2, `It has no item ${unknown}.`, '', `See: tessarion request show ${id}`);
    for (const item of items.filter((one) => wanted.length === 0 || wanted.includes(one.id)))
      await client.call('itemSeen', { ...byId(id), body: { item: item.id, hash: item.hash, seen: !options.undone } });
    const after = await client.call('requestShow', byId(id));
    if (wantsJson(command)) return printJson(after);
    const seen = after.items.filter((item) => item.isSeen).length;
    print(`You have seen ${seen} of ${counted(after.items.length, 'item')}.`);
  });
  examples(
    json(
      review
        .command('resolve')
        .argument('<id>')
        .argument('<thread>')
        .description('resolve a thread')
        .option('--reopen', 'open it again'),
    ),
    'tessarion review resolve q-8k2m4q9x1c c-3f9d2a7k5m',
    'tessarion review resolve q-8k2m4q9x1c c-3f9d2a7k5m --reopen',
  ).action(async (id: string, comment: string, options: { reopen?: boolean }, command: Command) => {
    const changed = await (await connect(command)).call('threadResolve', {
      params: { id, comment },
      body: { resolved: !options.reopen },
    });
    if (wantsJson(command)) printJson(changed);
    else printThreads(changed);
  });
}
