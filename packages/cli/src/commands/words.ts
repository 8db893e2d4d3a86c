import type { Command, Option } from 'commander';

/** What arguments mean wherever they stand, unless a command says more. */
const ARGUMENTS: Readonly<Record<string, string>> = {
  site: 'the site’s name',
  environment: 'SITE/NAME, such as threadmill/staging',
  'site/name': 'the environment, such as threadmill/staging',
  other: 'SITE/NAME of the other one',
  'new-name': 'what it is to be called',
  transfer: 'the transfer’s id, such as t-8k2m4q9x1c',
  request: 'the request’s id, such as q-8k2m4q9x1c',
  delivery: 'the delivery’s id, as webhook deliveries lists it',
  id: 'its id, as the list shows it',
  comment: 'the comment’s id, as request show lists it',
  thread: 'the thread’s id, as request show lists it',
  item: 'the item, such as page:12',
  text: 'what is said',
  name: 'its name',
  mail: 'mail address',
  role: 'the role, as role list shows it',
  url: 'where it is sent to, with https://',
  file: 'path of the file',
  table: 'the table, such as customer or shop.customer',
};

/** What options mean wherever they stand, unless a command says more. */
const OPTIONS: Readonly<Record<string, string>> = {
  '--client': 'only sites of this client',
  '--tag': 'only sites with this tag',
  '--site': 'only of this site',
  '--kind': 'only of this kind',
  '--state': 'only in this state',
  '--person': 'only what this person did: mail address or name',
  '--until': 'only what was before this time, such as 2026-11-30T18:00',
  '--outcome': 'only what ended so',
  '--as': 'how it is written out',
  '--from': 'SITE/NAME of the source',
  '--onto': 'SITE/NAME of the destination',
  '--title': 'what it is called',
  '--reason': 'why, for whoever reads it later',
  '--step': 'the manual step, as request show lists it',
  '--item': 'the item, such as page:12',
  '--field': 'the field of the item',
  '--reply': 'the thread that this answers',
  '--thread': 'the thread that this answers',
  '--name': 'name of the person',
  '--role': 'the role, as role list shows it',
  '--mail': 'mail address of your account',
};

function describeOption(option: Option): void {
  if (option.description === '') option.description = OPTIONS[option.long ?? ''] ?? '';
  if (option.mandatory && !option.description.endsWith('(needed)')) option.description += ' (needed)';
}

/** Gives every argument and option of some commands its words, and says which options are needed. */
export function describeAll(commands: readonly Command[]): void {
  for (const command of commands) {
    for (const argument of command.registeredArguments)
      if (argument.description === '') argument.description = ARGUMENTS[argument.name()] ?? '';
    for (const option of command.options) describeOption(option);
    describeAll(command.commands);
  }
}
