import type { Duplex } from 'node:stream';
import type { ByteString } from '@tessarion/core';
import { parseAcls } from '../local/acl.js';
import { FOLDER_MODES, refused } from '../local/below.js';
import { FoundListing, foundNodes, PLAIN, plainNode } from '../local/found.js';
import { apartCommand, apartEnvironment, asItEnded } from '../local/run-apart.js';
import { toolMissing } from '../local/tool.js';
import { EngineError, fileChanged, fileError, messageOf, readError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import {
  type Acl,
  type CommandOptions,
  type CommandResult,
  type CopiedFile,
  type CopyOrder,
  type FileContent,
  type FileMake,
  type Owner,
  type ServerConnection,
  type ServerFacts,
  type TreeNode,
  type WholeListing,
  whileStill,
} from '../ports/server.js';
import type { Carrier } from '../ports/shapes.js';
import { calledPlace, linkTo, type SshReach } from './link.js';
import { type Asking, type Remote, RemoteFailure } from './remote.js';

/** Access control lists that are given at once. */
const MOST_AT_ONCE = 100;

/** Of whoever owns something, and may be an entry of a listing, what the program is told. */
const plain = (owner: Owner | undefined): Owner | undefined => owner && { uid: owner.uid, gid: owner.gid };

/** An entry ends where the third of its parts does. */
function endOfWhole(lines: ByteString): number {
  const parts = lines.split('\0');
  const left = (parts.length - 1) % 3;
  return lines.length - parts.slice(parts.length - 1 - left).join('\0').length;
}

/** A machine that is reached by SSH, as far as one folder in which environments lie (see `remote.py`). */
export class SshServer implements ServerConnection {
  readonly carrier: Carrier;
  readonly isFar = true;

  constructor(readonly reach: SshReach) {
    this.carrier = { called: calledPlace(reach.at), dial: (host, port) => this.#dial(host, port) };
  }

  async about(programs: readonly string[]): Promise<ServerFacts> {
    const { hello, aheadNs } = await this.#remote();
    const missing = await this.#ask<string[]>('missing', { programs }, this.reach.base);
    return { isRoot: hello.uid === 0, behindMs: Number(aheadNs / 1_000_000n), missing };
  }

  async *listTree(folder: ByteString): AsyncGenerator<TreeNode> {
    yield* this.#listed({ path: folder }, folder);
  }

  async *listFolder(folder: ByteString): AsyncGenerator<TreeNode> {
    yield* this.#listed({ path: folder, flat: true }, folder);
  }

  async *#listed(words: object, folder: ByteString): AsyncGenerator<TreeNode> {
    let lines: ByteString = '';
    const { aheadNs } = await this.#remote();
    for await (const piece of this.#pieces('list', words, folder)) {
      lines += piece.toString('latin1');
      const end = endOfWhole(lines);
      yield* foundNodes(lines.slice(0, end), aheadNs).map(plainNode);
      lines = lines.slice(end);
    }
  }

  async listWhole(folder: ByteString): Promise<WholeListing> {
    const { aheadNs } = await this.#remote();
    return new FoundListing((await this.#whole('list', { path: folder }, folder)).toString('latin1'), aheadNs);
  }

  readFile(path: ByteString, into?: Buffer): Promise<Buffer> {
    return whileStill(async () => {
      const content = await this.#whole('read', { path }, path, undefined, readError);
      if (!into || content.length > into.length) return content;
      content.copy(into);
      return into.subarray(0, content.length);
    });
  }

  async *readPieces(path: ByteString, bytes: number): AsyncGenerator<Buffer> {
    yield* this.#pieces('read', { path, bytes }, path, readError);
  }

  writeFile(path: ByteString, content: FileContent, mode: number, more: FileMake = {}): Promise<string> {
    const { acl, modified, owner } = more;
    const long = !(content instanceof Uint8Array);
    const words = { path, mode: mode & PLAIN, acl, modified, owner: plain(owner), long };
    return this.#ask('write', words, path, { content });
  }

  async nodeAt(path: ByteString): Promise<TreeNode | undefined> {
    const line = await this.#ask<ByteString | null>('node', { path }, path);
    if (line === null) return undefined;
    return foundNodes(line, (await this.#remote()).aheadNs).map(plainNode)[0];
  }

  async identityOf(path: ByteString): Promise<string | undefined> {
    return (await this.nodeAt(path))?.identity;
  }

  makeFolder(path: ByteString, mode?: number, owner?: Owner): Promise<void> {
    return this.#ask(
      'folder',
      { path, mode: mode === undefined ? undefined : mode & FOLDER_MODES, owner: plain(owner) },
      path,
    );
  }

  makeLink(path: ByteString, target: ByteString, owner?: Owner): Promise<void> {
    return this.#ask('link', { path, target, owner: plain(owner) }, path);
  }

  makeHardLink(path: ByteString, existing: ByteString): Promise<void> {
    return this.#ask('second', { path, existing }, path);
  }

  async linkTree(to: ByteString, from: ByteString, paths: readonly ByteString[]): Promise<void> {
    if (paths.length === 0) return;
    await this.#ask('seconds', { path: from, to, from }, from, { content: Buffer.from(paths.join('\0'), 'latin1') });
  }

  async copyMany(orders: readonly CopyOrder[], lookFor: readonly ByteString[]) {
    const [first] = orders;
    if (!first) return [];
    const words = {
      lookFor,
      orders: orders.map(({ from, to, mode, acl, modified, owner }) => ({
        ...{ from, to, mode: mode & PLAIN, acl, modified },
        owner: plain(owner),
      })),
    };
    const made = await this.#ask<(CopiedFile | null)[]>('many', words, first.to);
    return made.map((one) => one ?? undefined);
  }

  copyFile(path: ByteString, existing: ByteString): Promise<void> {
    return this.#ask('copy', { path, existing }, existing);
  }

  replaceLink(path: ByteString, target: ByteString, via: ByteString, owner?: Owner): Promise<void> {
    return this.#ask('replace', { path, target, via, owner: plain(owner) }, path);
  }

  async readLink(path: ByteString): Promise<ByteString | undefined> {
    return (await this.nodeAt(path))?.target;
  }

  rename(from: ByteString, to: ByteString): Promise<void> {
    return this.#ask('rename', { path: from, from, to }, from);
  }

  async exists(path: ByteString): Promise<boolean> {
    return (await this.nodeAt(path)) !== undefined;
  }

  isFolder(path: ByteString): Promise<boolean> {
    return this.#ask('isFolder', { path }, path);
  }

  async readAcls(folder: ByteString, paths?: readonly ByteString[]): Promise<ReadonlyMap<ByteString, Acl>> {
    if (paths?.length === 0) return new Map();
    const content = Buffer.from((paths ?? []).join('\0'), 'latin1');
    const found = await this.#whole('acls', { path: folder, some: paths !== undefined }, folder, content);
    return parseAcls(found.toString('latin1'));
  }

  async writeAcls(acls: ReadonlyMap<ByteString, Acl>): Promise<void> {
    const all = [...acls];
    for (let at = 0; at < all.length; at += MOST_AT_ONCE)
      await this.#ask('giveAcls', { acls: all.slice(at, at + MOST_AT_ONCE) }, all[at]?.[0] as ByteString);
  }

  remove(path: ByteString): Promise<void> {
    return this.#ask('remove', { path }, path);
  }

  flush(folder: ByteString): Promise<void> {
    return this.#ask('flush', { path: folder }, folder);
  }

  freeBytes(path: ByteString): Promise<number> {
    return this.#ask('free', { path }, path);
  }

  async run(program: string, args: readonly string[], options: CommandOptions): Promise<CommandResult> {
    const node = await this.nodeAt(options.environment);
    const { uid } = (await this.#remote()).hello;
    const apart = {
      folder: showPath(options.folder),
      own: showPath(options.environment),
      base: showPath(this.reach.base),
      hidden: options.hidden,
      uid: node?.uid ?? uid,
      gid: node?.gid ?? uid,
      timeoutSeconds: options.timeoutSeconds,
    };
    const command = apartCommand(program, args, apart, uid === 0);
    const ended = await this.#ask<RemoteEnd>(
      'run',
      { path: options.folder, command, env: apartEnvironment(apart), timeout: options.timeoutSeconds },
      options.folder,
    );
    return asItEnded(program, apart, {
      ...ended,
      errors: Buffer.from(ended.errors, 'latin1').toString(),
      isApart: ended.apart,
      isLate: ended.late,
    });
  }

  async #dial(host: string, port: number): Promise<Duplex> {
    // The program tells when the line has gone silent.
    await this.#remote();
    return (await linkTo(this.reach.at)).dial(host, port);
  }

  async #remote(): Promise<Remote> {
    return (await linkTo(this.reach.at)).remote(this.reach.base);
  }

  async #ask<T>(act: string, words: object, path: ByteString, asking?: Asking, explain = fileError): Promise<T> {
    const remote = await this.#remote();
    return remote.ask<T>(act, words, asking).catch((error: unknown) => {
      throw this.#explained(error, path, explain);
    });
  }

  async #whole(
    act: string,
    words: object,
    path: ByteString,
    content?: FileContent,
    explain = fileError,
  ): Promise<Buffer> {
    const pieces: Buffer[] = [];
    const onPiece = (piece: Buffer): void => void pieces.push(piece);
    await this.#ask(act, words, path, content === undefined ? { onPiece } : { onPiece, content }, explain);
    return pieces.length === 1 ? (pieces[0] as Buffer) : Buffer.concat(pieces);
  }

  async *#pieces(act: string, words: object, path: ByteString, explain = fileError): AsyncGenerator<Buffer> {
    const remote = await this.#remote();
    try {
      yield* remote.pieces(act, words);
    } catch (error) {
      throw this.#explained(error, path, explain);
    }
  }

  /** What the program tells as the error that the machine itself would give. */
  #explained(error: unknown, asked: ByteString, explain: typeof fileError): unknown {
    if (!(error instanceof RemoteFailure))
      return error instanceof EngineError ? error : explain(error, showPath(asked));
    const path = error.path === '' ? asked : error.path;
    const { at } = this.reach;
    if (error.code === 'refused') return refused(path, error.words);
    if (error.code === 'changed') return fileChanged(showPath(path));
    if (error.code === 'missing') return toolMissing(error.words, `is not on ${calledPlace(at)}`);
    if (error.code === 'acls')
      return new EngineError(
        'command-failed',
        `Access control lists could not be carried over: ${error.words}`,
        'See that the file system keeps them, and that the login may set them.',
      );
    const said = new Error(`${error.code}: ${messageOf(error)}`);
    return explain(Object.assign(said, { code: error.code }), showPath(path));
  }
}

interface RemoteEnd {
  readonly code: number;
  readonly late: boolean;
  readonly apart: boolean;
  readonly output: string;
  readonly errors: string;
}
