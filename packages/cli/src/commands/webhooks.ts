import { ANNOUNCED } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { ago, cut, print, printJson, printTable, when } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { examples, json } from './options.js';

/** Commands on webhooks. */
export function addWebhooks(program: Command): void {
  const webhook = program.command('webhook').description('other programs that are told what happens');
  examples(
    json(webhook.command('list').description('list the webhooks')),
    'tessarion webhook list',
    'tessarion webhook list --json',
  ).action(async (_options: unknown, command: Command) => {
    const all = await (await connect(command)).call('webhookList');
    if (wantsJson(command)) return printJson(all);
    if (all.length === 0) return print('No webhooks.');
    printTable(
      ['id', 'address', 'for', 'types'],
      all.map((one) => [
        one.id,
        one.url,
        one.scope,
        one.types.length === ANNOUNCED.length ? 'all' : one.types.map((type) => type.slice(10)).join(', '),
      ]),
      [],
      1,
    );
  });
  examples(
    json(
      webhook
        .command('add')
        .argument('<url>')
        .description('have another program told; the secret that signs it is shown once')
        .addOption(
          new Option('--type <TYPE...>', 'what it is told; everything, when it is left out').choices(ANNOUNCED),
        )
        .option('--for <SCOPE>', 'everything, client:NAME, a site, or site/name', 'everything')
        .option('--allow-private', 'it may lead into a private network'),
    ),
    'tessarion webhook add https://chat.example/hooks/7 --for threadmill',
    'tessarion webhook add https://ci.example/hook --type tessarion.request.delivered',
  ).action(
    async (
      url: string,
      options: { type?: (typeof ANNOUNCED)[number][]; for: string; allowPrivate?: boolean },
      command: Command,
    ) => {
      const made = await (await connect(command)).call('webhookAdd', {
        body: {
          url,
          scope: options.for,
          ...(options.type === undefined ? {} : { types: options.type }),
          ...(options.allowPrivate ? { allowsPrivate: true } : {}),
        },
      });
      if (wantsJson(command)) return printJson(made);
      print(`${made.id} is told. What is sent is signed with this secret, which is shown once:`);
      print(made.secret);
    },
  );
  examples(
    webhook.command('remove').argument('<id>').description('remove a webhook'),
    'tessarion webhook remove w-8k2m4q9x1c',
    'tessarion webhook remove w-8k2m4q9x1c --url http://127.0.0.1:7070',
  ).action(async (id: string, _options: unknown, command: Command) => {
    await (await connect(command)).call('webhookRemove', { params: { id } });
    print(`${id} is removed.`);
  });
  examples(
    json(webhook.command('deliveries').argument('<id>').description('list what was sent, newest first')),
    'tessarion webhook deliveries w-8k2m4q9x1c',
    'tessarion webhook deliveries w-8k2m4q9x1c --json',
  ).action(async (id: string, _options: unknown, command: Command) => {
    const page = await (await connect(command)).call('webhookDeliveries', { params: { id } });
    if (wantsJson(command)) return printJson(page);
    if (page.items.length === 0) return print('Nothing was sent yet.');
    printTable(
      ['id', 'what', 'of', 'sent', 'state', 'tries', 'problem'],
      page.items.map((one) => [
        one.id,
        one.type.slice(10),
        one.subject,
        `${ago(one.at)} ago`,
        one.state,
        String(one.tries),
        one.problem === null ? '' : cut(`${one.problem}${one.nextAt ? ` Again ${when(one.nextAt)}` : ''}`, 60),
      ]),
      [5],
      6,
    );
  });
  examples(
    json(webhook.command('resend').argument('<delivery>').description('send something once more, under the same id')),
    'tessarion webhook resend v-8k2m4q9x1c',
    'tessarion webhook resend v-8k2m4q9x1c --json',
  ).action(async (id: string, _options: unknown, command: Command) => {
    const sent = await (await connect(command)).call('webhookResend', { params: { id } });
    if (wantsJson(command)) printJson(sent);
    else print(`${sent.id} is sent again.`);
  });
}
