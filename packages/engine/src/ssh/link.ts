import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { connect, type Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import type { ByteString } from '@tessarion/core';
import { Client, type ServerHostKeyAlgorithm } from 'ssh2';
import { EngineError, messageOf } from '../ports/errors.js';
import type { ServerReach } from '../ports/server.js';
import { type CommandChannel, Remote } from './remote.js';

/** A login of a machine by SSH. */
export interface SshPlace {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  /** The private key, as OpenSSH keeps it. */
  readonly key: string;
  /** The machine's own key as it was looked at, in base64; any other one is refused. */
  readonly hostKey: string;
  /** The machine by way of which it is reached. */
  readonly jump?: SshPlace | undefined;
}

/** How a server is reached by SSH. */
export interface SshReach extends ServerReach {
  readonly kind: 'ssh';
  readonly at: SshPlace;
}

/** What people call a place. */
export const calledPlace = ({ host, port, user }: Omit<SshPlace, 'key' | 'hostKey'>): string =>
  `${user}@${host}${port === 22 ? '' : `:${port}`}`;

/** A machine's key as people compare it (`ssh-keygen -l`). @param key in base64 */
export const fingerprintOf = (key: string): string =>
  `SHA256:${createHash('sha256').update(Buffer.from(key, 'base64')).digest('base64').replace(/=+$/, '')}`;

/** The kind of key, which stands at its beginning (RFC 4253, 6.6). */
function kindOf(key: string): string {
  const bytes = Buffer.from(key, 'base64');
  return bytes.toString('latin1', 4, 4 + bytes.readUInt32BE(0));
}

/** A machine with several keys is asked for the one that is known. */
function algorithmsFor(hostKey: string): ServerHostKeyAlgorithm[] {
  const kind = kindOf(hostKey);
  return (kind === 'ssh-rsa' ? ['rsa-sha2-512', 'rsa-sha2-256'] : [kind]) as ServerHostKeyAlgorithm[];
}

const READY_MS = 20_000;
const SOCKET_MS = 10_000;
/** A connection that nobody uses is ended. */
const IDLE_MS = 5 * 60_000;

/** One connection to a machine, which all that this process does there goes through. */
export class SshLink {
  readonly #client: Client;
  readonly #socket: Socket | undefined;
  readonly #remotes = new Map<ByteString, Opening<Remote>>();
  readonly #called: string;
  #inUse = 0;
  #idle: NodeJS.Timeout | undefined;
  isClosed = false;

  private constructor(client: Client, at: SshPlace, socket: Socket | undefined) {
    this.#client = client;
    this.#called = calledPlace(at);
    this.#socket = socket;
    client.on('close', () => this.#ended());
    client.on('error', () => this.#ended());
    this.#rest();
  }

  /** @throws {EngineError} `server-unreachable`, in words that tell which of all steps it was */
  static async open(at: SshPlace): Promise<SshLink> {
    const jump = at.jump && (await linkTo(at.jump));
    const sock = jump ? await jump.dial(at.host, at.port) : await socketTo(at);
    const client = new Client();
    try {
      await shakeHands(client, at, sock);
    } catch (error) {
      client.end();
      sock.destroy();
      throw error;
    }
    return new SshLink(client, at, jump ? undefined : (sock as Socket));
  }

  /** The program that does what is asked on that machine, below a folder. */
  remote(base: ByteString): Promise<Remote> {
    return openedOnce(this.#remotes, base, () =>
      Remote.start((command) => this.exec(command), base, {
        called: this.#called,
        busy: (isBusy) => this.#use(isBusy ? 1 : -1),
        lost: () => this.lost(),
        silent: () => this.close(),
      }),
    );
  }

  /** Runs a command of ours in the login's shell. */
  exec(command: string): Promise<CommandChannel> {
    return this.#opening<CommandChannel>((take) => this.#client.exec(command, take));
  }

  /** Opens a connection from that machine to another address. @throws {EngineError} `server-unreachable` where it may not */
  async dial(host: string, port: number): Promise<Duplex> {
    const channel = await this.#opening<Duplex>((take) => this.#client.forwardOut('127.0.0.1', 0, host, port, take));
    this.#use(1);
    channel.once('close', () => this.#use(-1));
    return channel;
  }

  /** That the connection has ended. */
  lost(): EngineError {
    return new EngineError(
      'server-unreachable',
      `The connection to ${this.#called} has broken.`,
      'See that the server and the network are up, then run it again.',
    );
  }

  /** Ends the connection, and what goes on by way of it. */
  close(): void {
    this.#client.end();
    this.#ended();
  }

  #opening<T>(open: (take: (error: Error | undefined, channel: T) => void) => unknown): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      if (this.isClosed) return reject(this.lost());
      this.#use(1);
      const settle = (act: () => void): void => {
        this.#client.removeListener('close', gone);
        this.#use(-1);
        act();
      };
      const gone = (): void => settle(() => reject(this.lost()));
      this.#client.once('close', gone);
      open((error, channel) =>
        settle(() => {
          if (error) reject(refusedChannel(this.#called, error));
          else resolve(channel);
        }),
      );
    });
  }

  /** A process waits for what is going on, and not for a connection that stands open. */
  #use(change: 1 | -1): void {
    this.#inUse += change;
    clearTimeout(this.#idle);
    if (this.#inUse === 0) this.#rest();
    else if (this.#inUse === 1 && change === 1) this.#socket?.ref();
  }

  #rest(): void {
    this.#socket?.unref();
    this.#idle = setTimeout(() => this.close(), IDLE_MS).unref();
  }

  #ended(): void {
    if (this.isClosed) return;
    this.isClosed = true;
    clearTimeout(this.#idle);
    this.#socket?.destroy();
    for (const { opened } of this.#remotes.values()) opened?.close();
  }
}

async function socketTo({ host, port, ...at }: SshPlace): Promise<Socket> {
  const socket = connect({ host, port, noDelay: true });
  const late = setTimeout(() => socket.destroy(new Error(`nothing was heard for ${SOCKET_MS / 1000} s`)), SOCKET_MS);
  try {
    await once(socket, 'connect');
    return socket;
  } catch (error) {
    throw new EngineError(
      'server-unreachable',
      `${calledPlace({ host, port, ...at })} cannot be reached: ${messageOf(error)}.`,
      'See that the server is up and that its address and port are right.',
      { cause: error },
    );
  } finally {
    clearTimeout(late);
  }
}

async function shakeHands(client: Client, at: SshPlace, sock: Duplex): Promise<void> {
  let shown: string | undefined;
  await new Promise<void>((resolve, reject) => {
    client.once('ready', resolve);
    // It may fail more than once.
    client.on('error', (error: Error & { level?: string }) => reject(handshakeError(at, error, shown)));
    client.once('close', () => reject(handshakeError(at, new Error('it closed the connection'), shown)));
    client.connect({
      sock,
      username: at.user,
      privateKey: at.key,
      algorithms: { serverHostKey: algorithmsFor(at.hostKey) },
      hostVerifier: (key: Buffer) => {
        shown = key.toString('base64');
        return shown === at.hostKey;
      },
      readyTimeout: READY_MS,
    });
  });
}

function handshakeError(at: SshPlace, error: Error & { level?: string }, shown: string | undefined): EngineError {
  const called = calledPlace(at);
  if ((shown !== undefined && shown !== at.hostKey) || /no matching host key/i.test(error.message))
    return new EngineError(
      'server-unreachable',
      `${called} shows another host key${shown === undefined ? '' : `, ${fingerprintOf(shown)},`} than the one on record, ${fingerprintOf(at.hostKey)}.`,
      'Somebody may stand in between. Ask whoever runs the server; if its key was changed, have the new one taken down.',
      { cause: error },
    );
  if (error.level === 'client-authentication')
    return new EngineError(
      'server-unreachable',
      `${called} does not accept the key.`,
      'Put the line that was shown for it into ~/.ssh/authorized_keys of that login, and see that the login is not locked.',
      { cause: error },
    );
  return new EngineError(
    'server-unreachable',
    `${called} cannot be logged in to: ${error.message}.`,
    'See that an SSH server answers there.',
    { cause: error },
  );
}

const refusedChannel = (called: string, error: Error): EngineError =>
  new EngineError(
    'server-unreachable',
    `${called} refuses: ${error.message}.`,
    'See that the key allows a shell and forwarding to the address (restrict,pty,port-forwarding,permitopen="HOST:PORT").',
    { cause: error },
  );

/** What is being opened, and what has been. */
interface Opening<T> {
  readonly opening: Promise<T>;
  opened?: T;
}

/** What stands open under a name; opened where it has ended, or was never there. */
function openedOnce<K, T extends { readonly isClosed: boolean }>(
  all: Map<K, Opening<T>>,
  name: K,
  open: () => Promise<T>,
): Promise<T> {
  const known = all.get(name);
  if (known && known.opened?.isClosed !== true) return known.opening;
  const one: Opening<T> = { opening: open() };
  all.set(name, one);
  one.opening.then(
    (opened) => {
      one.opened = opened;
    },
    () => {
      if (all.get(name) === one) all.delete(name);
    },
  );
  return one.opening;
}

const links = new Map<string, Opening<SshLink>>();

/** The connection of this process to a machine; opened where there is none. */
export const linkTo = (at: SshPlace): Promise<SshLink> =>
  openedOnce(links, createHash('sha256').update(JSON.stringify(at)).digest('base64'), () => SshLink.open(at));

/** Ends all connections of this process. */
export function closeLinks(): void {
  for (const { opened } of links.values()) opened?.close();
  links.clear();
}
