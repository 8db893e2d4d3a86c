import type { Command } from 'commander';
import { describeAll } from './words.js';

type Add = (program: Command) => void;

/** Which file makes which commands, in the order of the help: a run reads the file of its own command and no other. */
const FILES: readonly { readonly makes: readonly string[]; readonly read: () => Promise<Add> }[] = [
  {
    makes: ['push', 'pull', 'reset', 'forecast', 'compare', 'undo', 'watch', 'stop'],
    read: async () => (await import('./daily.js')).addDailyCommands,
  },
  { makes: ['site'], read: async () => (await import('./sites.js')).addSites },
  { makes: ['env'], read: async () => (await import('./environments.js')).addEnvironments },
  { makes: ['transfer'], read: async () => (await import('./transfers.js')).addTransfers },
  { makes: ['snapshot'], read: async () => (await import('./snapshots.js')).addSnapshots },
  { makes: ['request', 'review', 'deliver'], read: async () => (await import('./requests.js')).addRequests },
  { makes: ['guest'], read: async () => (await import('./guests.js')).addGuests },
  { makes: ['window', 'freeze', 'lane'], read: async () => (await import('./plans.js')).addPlans },
  { makes: ['people', 'role'], read: async () => (await import('./people.js')).addPeople },
  { makes: ['figures'], read: async () => (await import('./figures.js')).addFigures },
  { makes: ['journal'], read: async () => (await import('./journal.js')).addJournal },
  { makes: ['webhook'], read: async () => (await import('./webhooks.js')).addWebhooks },
  { makes: ['notice'], read: async () => (await import('./notices.js')).addNotices },
  { makes: ['server'], read: async () => (await import('./servers.js')).addServers },
  { makes: ['profile'], read: async () => (await import('./profiles.js')).addProfileCommands },
  { makes: ['serve'], read: async () => (await import('./serve.js')).addServe },
  { makes: ['key'], read: async () => (await import('./keys.js')).addKeys },
  { makes: ['sign-in', 'token', 'config'], read: async () => (await import('./own.js')).addOwn },
  {
    makes: ['completion'],
    read: async () => {
      const { addCompletion } = await import('./completion.js');
      return (program) => addCompletion(program, addAll);
    },
  },
];

/**
 * Adds the command that is asked for; all of them where it is not clear which, as for the help.
 *
 * @param args what stands behind the program's name
 */
export async function addWanted(program: Command, args: readonly string[]): Promise<void> {
  if (args[0] === '--version' || args[0] === '-V') return;
  const [first = ''] = args;
  // A run reads a few answers: to compile a reader for each of their shapes costs more than it saves. A service checks
  // the same ones all day.
  (await import('zod')).config({ jitless: first !== 'serve' });
  const own = FILES.filter((file) => file.makes.includes(first));
  const adding = await Promise.all((own.length > 0 ? own : FILES).map((file) => file.read()));
  for (const add of adding) add(program);
  describeAll(program.commands);
}

/** Adds what {@link addWanted} has left out. */
export async function addAll(program: Command): Promise<void> {
  const known = new Set(program.commands.map((one) => one.name()));
  for (const { makes, read } of FILES) if (!makes.some((name) => known.has(name))) (await read())(program);
  describeAll(program.commands);
}
