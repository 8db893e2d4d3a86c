import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { connect, type Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import type { ByteString } from '@tessarion/core';
import type { Client, ServerHostKeyAlgorithm } from 'ssh2';
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
  /** The machine's own key as somebody has confirmed it, in base64; any other one is refused, and all as long as there is none. */
  readonly hostKey: string | null;
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
  readonly #line: Line;
  readonly #remotes = new Map<ByteString, Opening<Remote>>();
  readonly #called: string;
  #inUse = 0;
  #idle: NodeJS.Timeout | undefined;
  isClosed = false;

  private constructor(client: Client, at: SshPlace, line: Line) {
    this.#client = client;
    this.#called = calledPlace(at);
    this.#line = line;
    client.on('close', () => this.#ended());
    client.on('error', () => this.#ended());
    this.#rest();
  }

  /** @throws {EngineError} `server-unreachable`, in words that tell which of all steps it was */
  static async open(at: SshPlace): Promise<SshLink> {
    const line = await lineTo(at);
    const client = await newClient();
    try {
      await shakeHands(client, at, line.stream);
    } catch (error) {
      client.end();
      line.wait(false);
      line.end();
      throw error;
    }
    return new SshLink(client, at, line);
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

  /**
   * Opens a connection from that machine to another address.
   *
   * @throws {EngineError} `server-unreachable` where it may not
   * @throws an error with the code ECONNREFUSED where nobody listens there
   */
  async dial(host: string, port: number): Promise<Duplex> {
    const { stream, wait } = await this.line(host, port);
    wait(true);
    stream.once('close', () => wait(false));
    return stream;
  }

  /** The same for whoever says by himself whether it is waited for. */
  async line(host: string, port: number): Promise<Line> {
    const stream = await this.#opening<Duplex>((take) => this.#client.forwardOut('127.0.0.1', 0, host, port, take));
    // As a socket does: whoever is told that the other side has ended is told that it is closed as well.
    stream.once('end', () => stream.end());
    return { stream, wait: (isWaited) => this.#use(isWaited ? 1 : -1), end: () => stream.destroy() };
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
    if (this.isClosed) return;
    if (this.#inUse === 0) this.#rest();
    else if (this.#inUse === 1 && change === 1) this.#line.wait(true);
  }

  #rest(): void {
    this.#line.wait(false);
    this.#idle = setTimeout(() => this.close(), IDLE_MS).unref();
  }

  #ended(): void {
    if (this.isClosed) return;
    this.isClosed = true;
    clearTimeout(this.#idle);
    if (this.#inUse > 0) this.#line.wait(false);
    this.#line.end();
    for (const { opened } of this.#remotes.values()) opened?.close();
  }
}

/** What a connection goes through. */
interface Line {
  readonly stream: Duplex;
  /** Whether the process is to go on as long as it is open: it is, until this says otherwise. */
  wait(isWaited: boolean): void;
  end(): void;
}

async function lineTo(at: SshPlace): Promise<Line> {
  if (!at.jump) {
    const socket = await socketTo(at);
    return {
      stream: socket,
      wait: (isWaited) => void (isWaited ? socket.ref() : socket.unref()),
      end: () => socket.destroy(),
    };
  }
  const line = await (await linkTo(at.jump)).line(at.host, at.port).catch(thrownFrom(at));
  line.wait(true);
  return line;
}

/** The same error in words of the place that is reached. */
const thrownFrom =
  (at: SshPlace) =>
  (error: unknown): never => {
    throw error instanceof EngineError ? error : notReached(at, error);
  };

const notReached = (at: SshPlace, error: unknown): EngineError =>
  new EngineError(
    'server-unreachable',
    `${calledPlace(at)} cannot be reached${at.jump ? ` from ${calledPlace(at.jump)}` : ''}: ${messageOf(error)}.`,
    'See that the server is up and that its address and port are right.',
    { cause: error },
  );

async function socketTo(at: SshPlace): Promise<Socket> {
  const { host, port } = at;
  const socket = connect({ host, port, noDelay: true });
  const late = setTimeout(() => socket.destroy(new Error(`nothing was heard for ${SOCKET_MS / 1000} s`)), SOCKET_MS);
  try {
    await once(socket, 'connect');
    return socket;
  } catch (error) {
    throw notReached(at, error);
  } finally {
    clearTimeout(late);
  }
}

/** The library, read where somebody needs it; outside of a bundle all of it stands under one name. */
async function ssh2(): Promise<typeof import('ssh2')> {
  const read: typeof import('ssh2') & { readonly default?: typeof import('ssh2') } = await import('ssh2');
  return read.default ?? read;
}

const newClient = async (): Promise<Client> => new (await ssh2()).Client();

/** The key that a machine shows, in base64, whoever it is. @throws {EngineError} `server-unreachable` */
export async function hostKeyOf(at: SshPlace): Promise<string> {
  const line = await lineTo(at);
  const client = await newClient();
  try {
    return await new Promise<string>((resolve, reject) => {
      client.on('error', (error: Error) => reject(handshakeError(at, error, undefined)));
      client.once('close', () => reject(handshakeError(at, new Error('it closed the connection'), undefined)));
      client.connect({
        sock: line.stream,
        username: at.user,
        hostVerifier: (key: Buffer) => {
          resolve(key.toString('base64'));
          return false;
        },
        readyTimeout: READY_MS,
      });
    });
  } finally {
    client.end();
    line.wait(false);
    line.end();
  }
}

async function shakeHands(client: Client, at: SshPlace, sock: Duplex): Promise<void> {
  const { hostKey } = at;
  if (hostKey === null)
    throw new EngineError(
      'server-unreachable',
      `Nobody has confirmed the host key of ${calledPlace(at)}.`,
      'Look at it, and try the server: tessarion server try NAME',
    );
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
      algorithms: { serverHostKey: algorithmsFor(hostKey) },
      hostVerifier: (key: Buffer) => {
        shown = key.toString('base64');
        return shown === hostKey;
      },
      readyTimeout: READY_MS,
    });
  });
}

function handshakeError(at: SshPlace, error: Error & { level?: string }, shown: string | undefined): EngineError {
  const called = calledPlace(at);
  const { hostKey } = at;
  if (hostKey !== null && ((shown !== undefined && shown !== hostKey) || /no matching host key/i.test(error.message)))
    return new EngineError(
      'server-unreachable',
      `${called} shows another host key${shown === undefined ? '' : `, ${fingerprintOf(shown)},`} than the one on record, ${fingerprintOf(hostKey)}.`,
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

/** Why no channel is opened where the other side of it does not answer (RFC 4254, 5.1). */
const CONNECT_FAILED = 2;

function refusedChannel(called: string, error: Error & { reason?: number }): Error {
  if (error.reason === CONNECT_FAILED)
    return Object.assign(new Error('nobody listens there', { cause: error }), { code: 'ECONNREFUSED' });
  return new EngineError(
    'server-unreachable',
    `${called} refuses: ${error.message}.`,
    'See that the key allows a shell, and forwarding to the address: restrict,port-forwarding,permitopen="HOST:PORT".',
    { cause: error },
  );
}

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

/** A new key for a login: both halves as OpenSSH writes them. @param comment stands behind the public one */
export async function newLoginKey(comment: string): Promise<{ readonly private: string; readonly public: string }> {
  const { utils } = await ssh2();
  for (;;) {
    const pair = utils.generateKeyPairSync('ed25519', { comment });
    // The library drops zeros that a key begins with: one in 256 is no key then.
    const { length } = Buffer.from(pair.public.split(' ')[1] as string, 'base64');
    if (length === ED25519_BYTES) return pair;
  }
}

/** Of a public key, with its kind (RFC 8709, 4). */
const ED25519_BYTES = 51;

/** The public half of a login's key. @throws {EngineError} `command-failed` where it is none, or has a passphrase */
export async function publicHalfOf(key: string, comment: string): Promise<string> {
  const { utils } = await ssh2();
  const parsed = utils.parseKey(key);
  if (parsed instanceof Error)
    throw new EngineError(
      'command-failed',
      `That is no private key that can be used: ${parsed.message}`,
      'Give one as OpenSSH keeps it, without a passphrase.',
    );
  const one = Array.isArray(parsed) ? (parsed[0] as typeof parsed) : parsed;
  return `${one.type} ${one.getPublicSSH().toString('base64')} ${comment}`;
}

/** Tries whether a login is let in. @throws {EngineError} `server-unreachable`, in words that tell at which step it ended */
export const tryLogin = async (at: SshPlace): Promise<void> => void (await linkTo(at));
