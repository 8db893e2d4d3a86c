import { randomBytes } from 'node:crypto';
import { readFileSync } from 'node:fs';
import type { Duplex } from 'node:stream';
import type { ByteString } from '@tessarion/core';
import { EngineError, messageOf } from '../ports/errors.js';
import type { FileContent } from '../ports/server.js';
import { type Frame, FrameReader, frameOf } from './frames.js';

/** A channel in which a command runs: what it reads and says, and what it complains of. */
export type CommandChannel = Duplex & { readonly stderr: NodeJS.ReadableStream };

/** What the program says of the server when it begins. */
export interface RemoteHello {
  readonly uid: number;
  /** The server's clock, in seconds since 1970. */
  readonly now: number;
  readonly python: string;
  readonly machine: string;
}

/** A failure as the program tells it: a code of errno.h, or a word of ours. */
export class RemoteFailure extends Error {
  constructor(
    readonly code: string,
    readonly path: ByteString,
    readonly words: string,
  ) {
    super(words === '' ? code : words);
  }
}

const PROGRAM = readFileSync(new URL('../../src/ssh/remote.py', import.meta.url));

/** Starts a Python 3 by whatever name it has, and gives it so many bytes as its program. */
const COMMAND =
  "exec sh -c 'for p in python3 /usr/libexec/platform-python; do if command -v $p >/dev/null 2>&1; then " +
  `exec $p -ISc "import sys;exec(sys.stdin.buffer.read(${PROGRAM.length}))"; fi; done; exit 127'`;

/** Pieces on their way that the other end has not taken yet; the same number stands in `remote.py`. */
const WINDOW = 8;
const PIECE = 256 * 1024;
/** How often both ends say that they live. */
const SIGN_MS = 1000;
/** A line that has been silent for so many signs is gone, whatever the network thinks. */
const MOST_MISSED = 15;
/** Of what a login's own files say before the program begins, so much is read. */
const MOST_NOISE = 256 * 1024;
const HELLO_MS = 20_000;

interface Pending {
  readonly resolve: (answer: unknown) => void;
  readonly reject: (error: unknown) => void;
  readonly onPiece: (piece: Buffer) => void;
  room: number;
  wake: () => void;
  isOver: boolean;
  /** Why this end gave up. */
  broken: unknown;
}

/** What a request may have beside its words. */
export interface Asking {
  /** Data that it takes. */
  readonly content?: FileContent;
  /** Gets what comes, piece by piece; a piece counts as taken when this returns. */
  readonly onPiece?: (piece: Buffer) => void;
}

/** The program on a server that does what it is asked, one a connection and base folder. */
export class Remote {
  readonly hello: RemoteHello;
  /** How far this machine's clock is ahead of the server's, at least: what was written there a moment ago is never taken for older. */
  readonly aheadNs: bigint;
  readonly #channel: CommandChannel;
  readonly #pending = new Map<number, Pending>();
  readonly #reader = new FrameReader();
  readonly #busy: (isBusy: boolean) => void;
  readonly #lost: () => EngineError;
  readonly #signs: NodeJS.Timeout;
  #next = 1;
  #missed = 0;
  #isClosed = false;

  private constructor(channel: CommandChannel, begun: Begun, { busy, lost, silent }: RemoteTies) {
    this.#channel = channel;
    this.hello = begun.hello;
    this.aheadNs = BigInt(Math.round(Date.now() * 1e3 - begun.hello.now * 1e6)) * 1000n;
    this.#busy = busy;
    this.#lost = lost;
    this.#signs = setInterval(() => {
      // Signs are counted, not seconds: a process that stood still has not listened either.
      if (++this.#missed > MOST_MISSED) silent();
      else this.#say(frameOf('.', 0));
    }, SIGN_MS).unref();
    channel.on('data', (piece: Buffer) => this.#hear(piece));
    channel.on('error', () => this.close());
    channel.on('close', () => this.close());
    this.#hear(begun.rest);
  }

  /**
   * Starts the program in a channel.
   *
   * @throws {EngineError} `server-unreachable` where it does not begin
   */
  static async start(exec: (command: string) => Promise<CommandChannel>, base: ByteString, ties: RemoteTies) {
    const channel = await exec(COMMAND);
    return new Remote(channel, await begin(channel, base, ties.called), ties);
  }

  get isClosed(): boolean {
    return this.#isClosed;
  }

  /** Ends what is going on; nothing is asked any more. */
  close(): void {
    if (this.#isClosed) return;
    this.#isClosed = true;
    clearInterval(this.#signs);
    this.#channel.destroy();
    for (const id of [...this.#pending.keys()]) this.#settle(id, (pending) => pending.reject(this.#lost()));
  }

  /**
   * Asks for something, and waits for its answer.
   *
   * @throws {RemoteFailure} as the program tells it
   * @throws {EngineError} `server-unreachable` where the connection ends meanwhile
   */
  ask<T>(act: string, words: object, { content, onPiece }: Asking = {}): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      const id = this.#begin(act, words, {
        resolve: resolve as (answer: unknown) => void,
        reject,
        onPiece: (piece) => {
          onPiece?.(piece);
          this.#say(frameOf('C', id));
        },
      });
      if (content !== undefined) void this.#upload(id, content);
    });
  }

  /** Asks for data, which come no faster than they are taken. Throws what {@link ask} does. */
  async *pieces(act: string, words: object): AsyncGenerator<Buffer> {
    const come: Buffer[] = [];
    let wake = (): void => undefined;
    let isOver = false;
    let failure: unknown;
    const end = (error?: unknown): void => {
      [isOver, failure] = [true, error];
      wake();
    };
    const id = this.#begin(act, words, {
      resolve: () => end(),
      reject: end,
      onPiece: (piece) => {
        come.push(piece);
        wake();
      },
    });
    try {
      for (;;) {
        const piece = come.shift();
        if (piece) {
          yield piece;
          this.#say(frameOf('C', id));
        } else if (isOver) break;
        else
          await new Promise<void>((resolve) => {
            wake = resolve;
          });
      }
      if (failure !== undefined) throw failure;
    } finally {
      if (!isOver) this.#say(frameOf('X', id));
    }
  }

  #begin(act: string, words: object, ends: Pick<Pending, 'resolve' | 'reject' | 'onPiece'>): number {
    const id = this.#next++;
    if (this.#isClosed) {
      ends.reject(this.#lost());
      return id;
    }
    this.#pending.set(id, { ...ends, room: WINDOW, wake: () => undefined, isOver: false, broken: undefined });
    this.#busy(true);
    this.#say(frameOf('Q', id, Buffer.from(asciiJson({ act, ...words }))));
    return id;
  }

  #say(frame: Buffer): void {
    if (!this.#isClosed) this.#channel.write(frame);
  }

  #hear(piece: Buffer): void {
    this.#missed = 0;
    for (const frame of this.#reader.add(piece)) this.#take(frame);
  }

  #take({ kind, request, payload }: Frame): void {
    const pending = this.#pending.get(request);
    if (!pending) return;
    if (kind === 'D') pending.onPiece(payload);
    else if (kind === 'C') {
      pending.room++;
      pending.wake();
    } else if (kind === 'A') this.#settle(request, () => pending.resolve(JSON.parse(payload.toString())));
    else if (kind === 'F') {
      const { problem, path = '', words = '' } = JSON.parse(payload.toString()) as Record<string, string>;
      this.#settle(request, () =>
        pending.reject(pending.broken ?? new RemoteFailure(problem ?? '', path as string, words as string)),
      );
    }
  }

  #settle(id: number, how: (pending: Pending) => void): void {
    const pending = this.#pending.get(id);
    if (!pending) return;
    this.#pending.delete(id);
    pending.isOver = true;
    pending.wake();
    this.#busy(false);
    how(pending);
  }

  async #upload(id: number, content: FileContent): Promise<void> {
    const pending = this.#pending.get(id);
    if (!pending) return;
    try {
      if (content instanceof Uint8Array) await this.#give(id, pending, content);
      else
        for await (const piece of content) {
          await this.#give(id, pending, piece);
          // It has failed at the other end.
          if (pending.isOver) return;
        }
      this.#say(frameOf('E', id));
    } catch (error) {
      pending.broken = error;
      this.#say(frameOf('X', id));
    }
  }

  async #give(id: number, pending: Pending, content: Uint8Array): Promise<void> {
    for (let at = 0; at < content.length && !pending.isOver; at += PIECE) {
      while (pending.room === 0 && !pending.isOver)
        await new Promise<void>((resolve) => {
          pending.wake = resolve;
        });
      pending.room--;
      this.#say(frameOf('D', id, content.subarray(at, at + PIECE)));
    }
  }
}

/** What ties a {@link Remote} to its connection. */
export interface RemoteTies {
  /** What people call the server. */
  readonly called: string;
  /** Told of the begin and the end of each request, so that a process waits for them and for nothing else. */
  readonly busy: (isBusy: boolean) => void;
  /** Why nothing comes any more. */
  readonly lost: () => EngineError;
  /** Told that nothing has come for a while, not even a sign of life. */
  readonly silent: () => void;
}

interface Begun {
  readonly hello: RemoteHello;
  readonly rest: Buffer;
}

/** JSON that any locale reads alike. */
const asciiJson = (value: object): string =>
  JSON.stringify(value).replace(/[\u007f-\uffff]/g, (one) => `\\u${one.charCodeAt(0).toString(16).padStart(4, '0')}`);

/** Sends the program, and waits until it says that it has begun; what a login's own files say before is passed over. */
function begin(channel: CommandChannel, base: ByteString, called: string): Promise<Begun> {
  const token = Buffer.from(randomBytes(16).toString('hex'));
  const reader = new FrameReader();
  let heard = Buffer.alloc(0);
  let complaints = '';
  let isBegun = false;
  return new Promise((resolve, reject) => {
    const late = setTimeout(() => fail(`it has not begun within ${HELLO_MS / 1000} s`), HELLO_MS);
    const stop = (): void => {
      clearTimeout(late);
      channel
        .removeAllListeners('data')
        .removeAllListeners('close')
        .removeAllListeners('exit')
        .removeAllListeners('error');
      channel.on('error', () => undefined);
    };
    const fail = (why: string): void => {
      stop();
      channel.destroy();
      reject(notBegun(called, why, `${complaints}${heard.subarray(0, 300).toString('latin1')}`));
    };
    channel.stderr.on('data', (piece: Buffer) => {
      complaints = (complaints + piece.toString('latin1')).slice(-300);
    });
    channel.on('error', (error: Error) => fail(messageOf(error)));
    channel.on('exit', (code: number | null) => fail(code === 127 ? 'Python 3 is not there' : `it ended with ${code}`));
    channel.on('close', () => fail('the channel was closed'));
    channel.on('data', (piece: Buffer) => {
      heard = Buffer.concat([heard, piece]);
      if (!isBegun) {
        const at = heard.indexOf(token);
        if (at === -1) {
          if (heard.length > MOST_NOISE) fail('the login’s own files say too much');
          return;
        }
        isBegun = true;
        heard = heard.subarray(at + token.length);
        piece = heard;
      }
      const [first] = reader.add(piece);
      if (!first) return;
      stop();
      const hello = JSON.parse(first.payload.toString()) as RemoteHello;
      resolve({ hello, rest: heard.subarray(9 + first.payload.length) });
    });
    channel.write(PROGRAM);
    channel.write(frameOf('Q', 0, Buffer.from(asciiJson({ base, token: token.toString() }))));
  });
}

const notBegun = (called: string, why: string, said: string): EngineError =>
  new EngineError(
    'server-unreachable',
    `Nothing can be done on ${called}: ${why}${said.trim() === '' ? '' : ` (“${said.trim().replace(/\s+/g, ' ')}”)`}.`,
    'A login with a shell and Python 3.6 or newer is needed; a key that is bound to one command gives none.',
  );
