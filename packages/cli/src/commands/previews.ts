import type { Client } from '@tessarion/client';
import { readEnvironmentPath } from '@tessarion/core';
import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { print, printJson, when } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { reportEnd, watchTransfer } from '../watch.js';
import { examples, json } from './options.js';

interface PreviewOptions {
  readonly open?: boolean;
  readonly remove?: boolean;
  readonly detach?: boolean;
}

/** What a change request would make of its destination, to be looked at. */
export function addPreview(request: Command): void {
  examples(
    json(
      request
        .command('preview')
        .argument('<id>')
        .description('make an environment that shows the destination with the request in it, or make it anew')
        .option('--open', 'leave it as it is, and print a link that passes its gate once')
        .option('--remove', 'remove it')
        .option('--detach', 'do not wait for its end'),
    ),
    'tessarion request preview q-8k2m4q9x1c',
    'tessarion request preview q-8k2m4q9x1c --open',
  ).action(async (id: string, options: PreviewOptions, command: Command) => {
    const client = await connect(command);
    if (options.open) return open(client, id, command);
    const begun = await client.call(options.remove ? 'previewRemove' : 'previewMake', { params: { id } });
    const ended = options.detach ? undefined : await watchTransfer(client, begun.id);
    if (wantsJson(command)) return printJson(ended ?? begun);
    if (!ended) return print(`Under way: tessarion watch ${begun.id}`);
    reportEnd(ended);
    const { preview } = await client.call('requestShow', { params: { id } });
    if (preview?.at) print(`Revision ${preview.revision} on ${ended.from} of ${when(preview.at)}: ${preview.url}`);
  });
}

async function open(client: Client, id: string, command: Command): Promise<void> {
  const { preview } = await client.call('requestShow', { params: { id } });
  const path = preview?.state === 'ready' ? readEnvironmentPath(preview.environment) : undefined;
  if (!path)
    throw new CliError(
      1,
      `Change request ${id} has no preview.`,
      preview?.because ?? 'Nobody has made one, or it was removed.',
      `Make one: tessarion request preview ${id}`,
    );
  const link = await client.call('environmentEnter', { params: path });
  if (wantsJson(command)) printJson(link);
  else print(link.url);
}
