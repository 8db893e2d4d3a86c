import type { Client } from '@tessarion/client';
import type { Colleague } from '@tessarion/contract';
import { PERMISSIONS, type Permission } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { ago, cut, dim, print, printJson, printTable, when } from '../output.js';
import { connect, mustSayYes, wantsJson } from '../program.js';
import { examples, json } from './options.js';

/** Somebody by mail address or id. @throws {CliError} */
async function find(client: Client, who: string): Promise<Colleague> {
  const people = await client.call('personList');
  const found = people.find((one) => one.id === who || one.mail === who.toLowerCase());
  if (!found)
    throw new CliError(1, `Nobody here is ${who}.`, 'People go by their mail address.', 'See: tessarion people list');
  return found;
}

const rolesText = ({ roles }: Pick<Colleague, 'roles'>): string =>
  roles.map((one) => `${one.role} for ${one.scope}${one.team ? ` (${one.team})` : ''}`).join(', ');

interface TeamOptions {
  readonly title?: string;
  readonly nobody?: boolean;
}

/** Commands on people, teams and roles. */
export function addPeople(program: Command): void {
  const people = program.command('people').description('who is here, and what they may do');
  examples(
    json(people.command('list').description('list the people with their roles')),
    'tessarion people list',
    'tessarion people list --json',
  ).action(async (_options: unknown, command: Command) => {
    const all = await (await connect(command)).call('personList');
    if (wantsJson(command)) return printJson(all);
    printTable(
      ['name', 'mail', 'state', 'seen', 'roles'],
      all.map((one) => [cut(one.name, 22), one.mail, one.state, ago(one.lastSeenAt), rolesText(one)]),
      [],
      4,
    );
  });
  examples(
    json(
      people
        .command('invite')
        .argument('<mail>')
        .description('invite somebody with a first role; the key is shown once')
        .requiredOption('--name <NAME>')
        .requiredOption('--role <ROLE>')
        .option('--for <SCOPE>', 'everything, client:NAME, a site, or site/name', 'everything'),
    ),
    'tessarion people invite ida.moe@copperlane.example --name "Ida Moe" --role editor --for threadmill',
    'tessarion people invite odd.rye@copperlane.example --name "Odd Rye" --role operations',
  ).action(async (mail: string, options: { name: string; role: string; for: string }, command: Command) => {
    const client = await connect(command);
    const made = await client.call('personInvite', {
      body: { name: options.name, mail, role: options.role, scope: options.for },
    });
    if (wantsJson(command)) return printJson(made);
    print(`${made.name} may come until ${when(made.expiresAt)}, with this link, which is shown once:`);
    print(`${client.url}/invitation#${made.key}`);
    if (made.isMailed) print(dim(`It is mailed to ${mail} as well.`));
  });
  examples(
    json(people.command('invite-again').argument('<mail>').description('make a new key; former ones end')),
    'tessarion people invite-again ida.moe@copperlane.example',
    'tessarion people invite-again ida.moe@copperlane.example --json',
  ).action(async (mail: string, _options: unknown, command: Command) => {
    const client = await connect(command);
    const made = await client.call('personInviteAgain', { params: { id: (await find(client, mail)).id } });
    if (wantsJson(command)) return printJson(made);
    print(`Valid until ${when(made.expiresAt)}, and shown once:`);
    print(`${client.url}/invitation#${made.key}`);
    if (made.isMailed) print(dim(`It is mailed to ${mail} as well.`));
  });
  const acts = [
    ['end', 'personEnd', 'end all access of somebody at once', 'has no access any more'],
    [
      'end-factor',
      'personFactorEnd',
      'take away the second factor of somebody who has lost it',
      'is asked for no second factor any more',
    ],
    ['readmit', 'personReturn', 'let somebody in again, with the roles that they had', 'may come in again'],
    ['erase', 'personErase', 'erase name and mail address of somebody who left, also in the journal', 'is erased'],
  ] as const;
  for (const [name, endpoint, description, done] of acts) {
    const isForGood = name === 'erase';
    const made = json(people.command(name).argument('<mail>').description(description));
    if (isForGood) made.option('--yes', 'answers the question');
    examples(
      made,
      `tessarion people ${name} ida.moe@copperlane.example`,
      `tessarion people ${name} p-8k2m4q9x1c --json`,
    ).action(async (mail: string, options: { yes?: boolean }, command: Command) => {
      const client = await connect(command);
      const found = await find(client, mail);
      if (isForGood && !options.yes)
        await mustSayYes(`Take ${found.name} (${found.mail}) out of all records for good?`, 'Nobody was erased.');
      const changed = await client.call(endpoint, { params: { id: found.id } });
      if (wantsJson(command)) printJson(changed);
      else print(`${found.name} ${done}.`);
    });
  }
  examples(
    json(
      people
        .command('grant')
        .argument('<who>', 'a mail address, or team:NAME')
        .argument('<role>')
        .description('give a role')
        .option('--for <SCOPE>', 'everything, client:NAME, a site, or site/name', 'everything'),
    ),
    'tessarion people grant ida.moe@copperlane.example editor --for threadmill',
    'tessarion people grant team:shop developer --for "client:Threadmill & Daughters"',
  ).action(async (who: string, role: string, options: { for: string }, command: Command) => {
    const client = await connect(command);
    const to = who.startsWith('team:') ? { team: who.slice('team:'.length) } : { person: (await find(client, who)).id };
    const given = await client.call('roleGive', { body: { ...to, role, scope: options.for } });
    if (wantsJson(command)) printJson(given);
    else print(`${who} is ${given.role} for ${given.scope} (${given.id}).`);
  });
  examples(
    json(
      people
        .command('revoke')
        .argument('<who>', 'a mail address')
        .argument('<role>')
        .description('take a role back')
        .option('--for <SCOPE>', 'where it was given', 'everything'),
    ),
    'tessarion people revoke ida.moe@copperlane.example editor --for threadmill',
    'tessarion people revoke odd.rye@copperlane.example operations',
  ).action(async (who: string, role: string, options: { for: string }, command: Command) => {
    const client = await connect(command);
    const { name, roles } = await find(client, who);
    const given = roles.find((one) => one.role === role && one.scope === options.for && one.team === null);
    if (!given)
      throw new CliError(
        1,
        `${name} is not ${role} for ${options.for}.`,
        rolesText({ roles }) || 'They have no role.',
        'Name one of their own roles; what comes by a team is taken by leaving it.',
      );
    await client.call('roleTake', { params: { id: given.id } });
    print(`${name} is no longer ${role} for ${options.for}.`);
  });
  examples(
    json(
      people
        .command('team')
        .argument('<name>')
        .argument('[mail...]')
        .description('show who is in a team; make it, or say who is in it')
        .option('--title <TEXT>', 'what it is called')
        .option('--nobody', 'take everybody out of it'),
    ),
    'tessarion people team shop ida.moe@copperlane.example --title "The shop"',
    'tessarion people team shop',
  ).action(async (name: string, mails: string[], options: TeamOptions, command: Command) => {
    const client = await connect(command);
    const former = (await client.call('teamList')).find((one) => one.name === name);
    const isAsked = mails.length === 0 && options.title === undefined && !options.nobody;
    if (!former && (isAsked || options.nobody))
      throw new CliError(1, `There is no team ${name}.`, '', `Make it: tessarion people team ${name} MAIL`);
    if (options.nobody && mails.length > 0)
      throw new CliError(2, 'Say who is in it, or --nobody.', 'Both were given.', '');
    const members: string[] = [];
    for (const mail of mails) members.push((await find(client, mail)).id);
    const keeps = mails.length === 0 && !options.nobody;
    const team =
      isAsked && former
        ? former
        : await client.call('teamSave', {
            params: { name },
            body: {
              title: options.title ?? former?.title ?? name,
              members: keeps ? (former?.members ?? []).map((one) => one.id) : members,
            },
            etag: former?.etag ?? null,
          });
    if (wantsJson(command)) printJson(team);
    else print(`${team.title}: ${team.members.map((one) => one.name).join(', ') || 'nobody'}.`);
  });
  examples(
    people.command('remove-team').argument('<name>').description('remove a team; what was given to it ends'),
    'tessarion people remove-team shop',
    'tessarion people remove-team night-shift --url http://127.0.0.1:7070',
  ).action(async (name: string, _options: unknown, command: Command) => {
    await (await connect(command)).call('teamRemove', { params: { name } });
    print(`The team ${name} is removed.`);
  });
  examples(
    json(people.command('teams').description('list the teams')),
    'tessarion people teams',
    'tessarion people teams --json',
  ).action(async (_options: unknown, command: Command) => {
    const teams = await (await connect(command)).call('teamList');
    if (wantsJson(command)) return printJson(teams);
    if (teams.length === 0) return print('No teams.');
    printTable(
      ['name', 'title', 'members', 'roles'],
      teams.map((one) => [one.name, one.title, one.members.map((member) => member.name).join(', '), rolesText(one)]),
      [],
      2,
    );
  });
  examples(
    json(
      people
        .command('sessions')
        .description('list your own sessions')
        .option('--end <ID>', 'end one of them')
        .option('--end-all', 'end all of them'),
    ),
    'tessarion people sessions --end n-8k2m4q9x1c',
    'tessarion people sessions --end-all',
  ).action(async (options: { end?: string; endAll?: true }, command: Command) => {
    const client = await connect(command);
    if (options.end !== undefined) await client.call('sessionEnd', { params: { id: options.end } });
    if (options.endAll) await client.call('sessionsEnd');
    const sessions = await client.call('sessionList');
    if (wantsJson(command)) return printJson(sessions);
    if (sessions.length === 0) return print('No sessions.');
    printTable(
      ['id', 'since', 'seen', 'from', 'until'],
      sessions.map((one) => [one.id, when(one.createdAt), ago(one.lastSeenAt), one.from ?? '', when(one.expiresAt)]),
    );
  });
  addRoles(program);
}

function addRoles(program: Command): void {
  const role = program.command('role').description('what roles allow');
  examples(
    json(role.command('list').description('list the roles with their permissions')),
    'tessarion role list',
    'tessarion role list --json',
  ).action(async (_options: unknown, command: Command) => {
    const roles = await (await connect(command)).call('roleList');
    if (wantsJson(command)) return printJson(roles);
    for (const one of roles) {
      print(`${one.name}${one.isReady ? '' : ' (own)'}`);
      for (const permission of one.permissions) print(`  ${permission.padEnd(18)}${PERMISSIONS[permission]}`);
    }
  });
  examples(
    json(
      role
        .command('save')
        .argument('<name>')
        .description('make a role, or change it for all who have it')
        .option('--title <TEXT>')
        .addOption(
          new Option('--may <PERMISSION...>', 'what it allows').choices(Object.keys(PERMISSIONS)).makeOptionMandatory(),
        ),
    ),
    'tessarion role save night-shift --title "Night shift" --may site.read live.deliver',
    'tessarion role save auditor --may site.read journal.read',
  ).action(async (name: string, options: { title?: string; may: Permission[] }, command: Command) => {
    const client = await connect(command);
    const former = (await client.call('roleList')).find((one) => one.name === name);
    const saved = await client.call('roleSave', {
      params: { name },
      body: { title: options.title ?? former?.title ?? name, permissions: options.may },
      etag: former?.etag ?? null,
    });
    if (wantsJson(command)) printJson(saved);
    else print(`${saved.name} allows ${saved.permissions.join(', ')}.`);
  });
  examples(
    role.command('remove').argument('<name>').description('remove a role that nobody has'),
    'tessarion role remove auditor',
    'tessarion role remove night-shift --url http://127.0.0.1:7070',
  ).action(async (name: string, _options: unknown, command: Command) => {
    await (await connect(command)).call('roleRemove', { params: { name } });
    print(`${name} is removed.`);
  });
}
