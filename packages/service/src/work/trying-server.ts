import { once } from 'node:events';
import { connect } from 'node:net';
import type { Check } from '@tessarion/contract';
import { toBytes } from '@tessarion/core';
import {
  calledPlace,
  EngineError,
  fingerprintOf,
  hostKeyOf,
  type ServerConnection,
  type SshPlace,
  type SshReach,
  tryLogin,
} from '@tessarion/engine';
import type { ServerRecord, SshRecord } from '../fleet/servers.js';
import { newId } from '../ground/data-folder.js';
import { failureOf, ProblemError } from '../ground/problems.js';
import type { Installation } from '../transfers/installation.js';

const WEB_HOST_MS = 5000;
/** A server whose clock is this far off writes times that people take for wrong. */
const CLOCK_MS = 60_000;
/** Fewer bytes than this are soon used up. */
const LITTLE_ROOM = 1e9;
/** Programs without which nothing goes, and those that only tasks and access control lists need. */
const NEEDED = ['sync'];
const WANTED = ['unshare', 'setpriv', 'prlimit', 'getfacl', 'setfacl'];

/** @throws {ProblemError} `invalid` where nobody listens there */
export async function mustAnswer({ host, port }: { readonly host: string; readonly port: number }): Promise<void> {
  const socket = connect({ host, port, timeout: WEB_HOST_MS });
  try {
    await Promise.race([
      once(socket, 'connect'),
      once(socket, 'timeout').then(() => {
        throw new Error(`nothing was heard for ${WEB_HOST_MS / 1000} s`);
      }),
    ]);
  } catch (error) {
    throw new ProblemError(
      'invalid',
      `No web server answers at ${host}:${port}: ${error instanceof Error ? error.message : String(error)}.`,
      'Start it, or correct the address.',
    );
  } finally {
    socket.destroy();
  }
}

/** What a step found: words for it, with a remedy where something is amiss but not wrong. */
type Found = string | { readonly message: string; readonly remedy: string };

class Steps {
  readonly all: Check[] = [];
  /** The fingerprint of a host key that nobody has confirmed. */
  hostKey: string | null = null;

  /** @returns whether the next one makes sense */
  async take(name: string, look: () => Promise<Found>): Promise<boolean> {
    try {
      const found = await look();
      this.all.push(
        typeof found === 'string' ? { name, state: 'passed', message: found } : { name, state: 'warning', ...found },
      );
      return true;
    } catch (error) {
      const { message, next } = failureOf(error);
      this.all.push({ name, state: 'failed', message, remedy: next });
      return false;
    }
  }
}

/**
 * Tries a server step by step: how it is logged in to, what it is like, its folder, its web server and its databases. A step
 * without which the next ones make no sense ends it.
 *
 * @param confirmed fingerprints of host keys that somebody has looked at; they are on record from then on
 * @param confirm puts one on record
 */
export async function tryServer(
  installation: Installation,
  name: string,
  confirmed: readonly string[],
  confirm: (ssh: SshRecord, fingerprint: string) => Promise<void>,
): Promise<{ readonly steps: Check[]; readonly hostKey: string | null }> {
  const steps = new Steps();
  await takeAll(installation, name, confirmed, confirm, steps);
  return { steps: steps.all, hostKey: steps.hostKey };
}

async function takeAll(
  installation: Installation,
  name: string,
  confirmed: readonly string[],
  confirm: (ssh: SshRecord, fingerprint: string) => Promise<void>,
  steps: Steps,
): Promise<void> {
  const { records, servers } = installation;
  const first = await servers.get(records, name);
  for (const which of ['jump', 'own'] as const) {
    if (first.ssh === null || (which === 'jump' && first.ssh.jump === null)) continue;
    if (!(await tryMachine(installation, name, which, confirmed, confirm, steps))) return;
  }
  const record = await servers.get(records, name);
  const server = servers.connect(record);
  if (!(await tryShell(record, server, steps))) return;
  await steps.take('folder', () => tryFolder(record, server));
  await steps.take('disk', () => tryDisk(record, server));
  await steps.take('web server', async () => {
    await mustAnswer(record.web_host);
    return `A web server answers at ${record.web_host.host}:${record.web_host.port}.`;
  });
  await steps.take('databases', () => tryDatabases(installation, record));
}

/** The host key of one machine, and whether it lets the login in. */
async function tryMachine(
  { records, servers }: Installation,
  name: string,
  which: 'jump' | 'own',
  confirmed: readonly string[],
  confirm: (ssh: SshRecord, fingerprint: string) => Promise<void>,
  steps: Steps,
): Promise<boolean> {
  const placeNow = async (): Promise<SshPlace> => {
    const { at } = servers.reach(await servers.get(records, name)) as SshReach;
    return which === 'own' ? at : (at.jump as SshPlace);
  };
  const prefix = which === 'jump' ? 'jump host: ' : '';
  const isKnown = await steps.take(`${prefix}host key`, async () => {
    const place = await placeNow();
    if (place.hostKey !== null) return `${calledPlace(place)} has the host key ${fingerprintOf(place.hostKey)}.`;
    const shown = await hostKeyOf(place);
    const fingerprint = fingerprintOf(shown);
    if (!confirmed.includes(fingerprint)) {
      steps.hostKey = fingerprint;
      throw new ProblemError(
        'not-confirmed',
        `${calledPlace(place)} shows the host key ${fingerprint}, which nobody has confirmed.`,
        `Compare it there (ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub), then: tessarion server try ${name} --host-key ${fingerprint}`,
      );
    }
    const { ssh } = await servers.get(records, name);
    const was = ssh as SshRecord;
    await confirm(
      which === 'own' ? { ...was, hostKey: shown } : { ...was, jump: was.jump && { ...was.jump, hostKey: shown } },
      fingerprint,
    );
    return `${calledPlace(place)} has the host key ${fingerprint}; any other one is refused from now on.`;
  });
  return (
    isKnown &&
    steps.take(`${prefix}login`, async () => {
      const place = await placeNow();
      await tryLogin(place);
      return `${calledPlace(place)} accepts the key.`;
    })
  );
}

async function tryShell({ ssh }: ServerRecord, server: ServerConnection, steps: Steps): Promise<boolean> {
  const programs = [...NEEDED, ...WANTED];
  let missing: readonly string[] = [];
  let behindMs = 0;
  const runs = await steps.take('shell', async () => {
    const facts = await server.about(programs);
    ({ missing, behindMs } = facts);
    const lacking = NEEDED.filter((one) => missing.includes(one));
    if (lacking.length > 0)
      throw new EngineError(
        'command-failed',
        `${lacking.join(', ')} is not there.`,
        'Install coreutils on the server.',
      );
    return `Programs run there${facts.isRoot ? ', and files are given to whom they belong' : ' as the login’s own user'}.`;
  });
  if (!runs) return false;
  if (ssh !== null)
    await steps.take('clock', async () =>
      Math.abs(behindMs) > CLOCK_MS
        ? {
            message: `Its clock is ${clockWords(behindMs)}; times of files there are read with that in mind.`,
            remedy: 'Let it follow a time server (chrony, systemd-timesyncd).',
          }
        : 'Its clock agrees with this one.',
    );
  await steps.take('programs', async () => {
    const lacking = WANTED.filter((one) => missing.includes(one));
    if (lacking.length === 0) return 'Tasks can run apart from other sites, and access control lists are kept.';
    return {
      message: `${lacking.join(', ')} ${lacking.length === 1 ? 'is' : 'are'} not there: no tasks of sites, or no access control lists.`,
      remedy: 'Install util-linux and acl on the server, where sites need them.',
    };
  });
  return true;
}

function clockWords(behindMs: number): string {
  const minutes = Math.round(Math.abs(behindMs) / 60_000);
  return `${minutes} minutes ${behindMs > 0 ? 'slow' : 'fast'}`;
}

/** Whether files, second names and links can be made where sites lie. */
async function tryFolder(record: ServerRecord, server: ServerConnection): Promise<Found> {
  const folder = toBytes(record.folder);
  if (!(await server.isFolder(folder)))
    throw new ProblemError('invalid', `There is no folder ${record.folder}.`, 'Make it first, or correct its name.');
  const own = `${folder}/.tessarion-${newId('try')}`;
  try {
    await server.makeFolder(own, 0o700);
    await server.writeFile(`${own}/file`, Buffer.from('tried'), 0o600);
    await server.makeHardLink(`${own}/second`, `${own}/file`);
    await server.replaceLink(`${own}/link`, 'file', `${own}/via`);
    await server.flush(own);
  } finally {
    await server.remove(own).catch(() => undefined);
  }
  return `Files, second names and links can be made in ${record.folder}.`;
}

async function tryDisk(record: ServerRecord, server: ServerConnection): Promise<Found> {
  const free = await server.freeBytes(toBytes(record.folder));
  const gigabytes = (free / 1e9).toFixed(1);
  if (free >= LITTLE_ROOM) return `${gigabytes} GB are free.`;
  return { message: `Only ${gigabytes} GB are free.`, remedy: 'Make room before copies are made there.' };
}

async function tryDatabases({ servers }: Installation, record: ServerRecord): Promise<Found> {
  const { host, port, user } = record.database;
  const admin = servers.admin(record);
  if (!(await admin.mayProvision()))
    throw new ProblemError(
      'invalid',
      `${user} may not make databases and roles on ${host}:${port}.`,
      'Give the login of a superuser, or one with CREATEDB and CREATEROLE.',
    );
  const { version } = await admin.offers();
  return `${user} may make databases on ${host}:${port} (${version}).`;
}
