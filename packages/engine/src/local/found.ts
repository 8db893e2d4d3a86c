import { hash } from 'node:crypto';
import type { ByteString } from '@tessarion/core';
import type { TreeNode, WholeListing } from '../ports/server.js';

/** Who may do what with a file. What else a mode says would give a site's program the rights of another user. */
export const PLAIN = 0o777;

/** The mode that counts of one that was found. */
export const modeOf = (mode: number, type: TreeNode['type']): number =>
  type === 'file' ? mode & PLAIN : mode & 0o7777;

/**
 * Type, mode, owner and identity of everything, then its path, then where it leads: always all three, for what was a link when it
 * was found may be none when it is written down.
 */
export const FIND = ['-mindepth', '1', '-printf', '%y %m %U %G %s %T@ %C@ %i\\0%P\\0%l\\0'];

const TYPES: Readonly<Record<string, TreeNode['type']>> = { f: 'file', d: 'folder', l: 'link' };

/** An entry as `find` tells it; what is seldom asked for is read when it is. */
class FoundNode implements TreeNode {
  constructor(
    readonly path: ByteString,
    readonly type: TreeNode['type'],
    readonly mode: number,
    readonly uid: number,
    readonly gid: number,
    readonly identity: string,
    readonly target: ByteString | undefined,
    readonly aheadNs: bigint,
  ) {}

  get bytes(): number {
    return Number(this.identity.slice(0, this.identity.indexOf(' ')));
  }

  get changedAtNs(): bigint {
    const [whole, part] = (this.identity.split(' ')[2] as string).split('.') as [string, string];
    return BigInt(whole + part.slice(0, 9)) + this.aheadNs;
  }

  get modified(): number {
    return Number(this.identity.split(' ')[1]);
  }

  get file(): string {
    return this.identity.slice(this.identity.lastIndexOf(' ') + 1);
  }

  get written(): string {
    return this.identity.slice(0, this.identity.indexOf(' ', this.identity.indexOf(' ') + 1));
  }
}

/** An entry as plain data, of which others may be made. */
export const plainNode = (node: TreeNode): TreeNode => ({
  path: node.path,
  type: node.type,
  mode: node.mode,
  uid: node.uid,
  gid: node.gid,
  bytes: node.bytes,
  identity: node.identity,
  file: node.file,
  written: node.written,
  changedAtNs: node.changedAtNs,
  modified: node.modified,
  target: node.target,
});

/** Where mode, user and group end in what `find` says of an entry. */
function blanksIn(said: string): [afterMode: number, afterUser: number, afterGroup: number] {
  const afterMode = said.indexOf(' ', 2);
  const afterUser = said.indexOf(' ', afterMode + 1);
  return [afterMode, afterUser, said.indexOf(' ', afterUser + 1)];
}

/** Entries as `find` tells them, see {@link FIND}. @param aheadNs how far this machine's clock is ahead of theirs */
export function foundNodes(output: ByteString, aheadNs = 0n): TreeNode[] {
  const nodes: TreeNode[] = [];
  const fields = output.split('\0');
  for (let i = 0; i + 2 < fields.length; i += 3) {
    const [said, path, target] = fields.slice(i, i + 3) as [string, string, string];
    const [afterMode, afterUser, afterGroup] = blanksIn(said);
    const mode = Number.parseInt(said.slice(2, afterMode), 8);
    const [uid, gid] = [Number(said.slice(afterMode, afterUser)), Number(said.slice(afterUser, afterGroup))];
    const type = TYPES[said[0] as string] ?? 'special';
    const identity = said.slice(afterGroup + 1);
    nodes.push(
      new FoundNode(path, type, modeOf(mode, type), uid, gid, identity, type === 'link' ? target : undefined, aheadNs),
    );
  }
  return nodes;
}

const digestOf = (text: ByteString): string => hash('sha256', Buffer.from(text, 'latin1'));

/** What `find` said of a folder: a mark is soon made of it, and its entries only where somebody wants them. */
export class FoundListing implements WholeListing {
  readonly mark: string;
  #output: ByteString;
  #nodes: readonly TreeNode[] | undefined;

  readonly #aheadNs: bigint;

  constructor(output: ByteString, aheadNs = 0n) {
    this.mark = digestOf(output);
    this.#output = output;
    this.#aheadNs = aheadNs;
  }

  get nodes(): readonly TreeNode[] {
    this.#nodes ??= foundNodes(this.#output, this.#aheadNs);
    this.#output = '';
    return this.#nodes;
  }
}

/** Entries that were looked at one by one, in the order of their paths, as a listing. */
export function listingOf(nodes: readonly TreeNode[]): WholeListing {
  const lines = nodes.map(({ path, type, mode, uid, gid, identity, target }) =>
    [type, mode, uid, gid, identity, path, target ?? ''].join('\0'),
  );
  return { mark: digestOf(lines.join('\0')), nodes };
}
