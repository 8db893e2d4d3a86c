import { areaOf, type ByteString, Rewriter, toBytes } from '@tessarion/core';
import {
  areasOf,
  EngineError,
  type Environment,
  FileForm,
  readListing,
  readPieces,
  type SnapshotLibrary,
} from '@tessarion/engine';

/** A file as people look at it: its text, a picture, or how large it is. */
export type ShownFile =
  | { readonly is: 'text'; readonly text: string }
  | { readonly is: 'picture'; readonly type: string; readonly content: string }
  | { readonly is: 'other'; readonly bytes: number }
  | { readonly is: 'absent' };

const MOST_TEXT_BYTES = 200 * 1024;
const MOST_PICTURE_BYTES = 4 << 20;
const PICTURES: Readonly<Record<string, string>> = {
  png: 'image/png',
  jpg: 'image/jpeg',
  jpeg: 'image/jpeg',
  gif: 'image/gif',
  webp: 'image/webp',
  avif: 'image/avif',
  svg: 'image/svg+xml',
};

/** What an environment's file holds now. Values of settings, which may be secret, are shown by their names. */
export async function fileNow(environment: Environment, root: string, path: ByteString): Promise<ShownFile> {
  const folder = environment.place.roots.find((one) => one.name === root)?.path;
  const { server } = environment;
  if (folder === undefined) return { is: 'absent' };
  const node = await server.nodeAt(`${folder}/${path}`);
  if (node?.type !== 'file') return { is: 'absent' };
  if (node.bytes > MOST_PICTURE_BYTES) return { is: 'other', bytes: node.bytes };
  try {
    const form = new FileForm(environment, new Rewriter(environment.place));
    const area = areaOf(areasOf(environment.profile), path);
    return shown(path, form.canonicalise(path, area, await server.readFile(`${folder}/${path}`)));
  } catch (error) {
    if (error instanceof EngineError && error.code === 'file-gone') return { is: 'absent' };
    throw error;
  }
}

/** What a snapshot, or what two environments had in common, holds of a file. */
export async function fileStored(
  library: SnapshotLibrary,
  manifest: string,
  root: string,
  path: ByteString,
): Promise<ShownFile> {
  const { roots } = await library.load(manifest);
  const stored = roots.find((one) => one.name === root);
  const state = stored && (await readListing(library.store, stored)).get(path);
  if (state?.type !== 'file') return { is: 'absent' };
  if (state.size > MOST_PICTURE_BYTES) return { is: 'other', bytes: state.size };
  return shown(path, await readPieces(library.store, state.pieces));
}

function shown(path: ByteString, content: Buffer): ShownFile {
  const type = PICTURES[path.split('.').at(-1)?.toLowerCase() ?? ''];
  if (type !== undefined) return { is: 'picture', type, content: content.toString('base64') };
  if (content.length > MOST_TEXT_BYTES || content.includes(0)) return { is: 'other', bytes: content.length };
  const text = content.toString('utf8');
  if (Buffer.byteLength(text) !== content.length || text.includes('\uFFFD'))
    return { is: 'other', bytes: content.length };
  return { is: 'text', text: readable(text) };
}

/** What stands for an address, a folder or a setting is shown by its name. */
const readable = (text: string): string =>
  text.replace(/~tsr\.([a-z])\.([^.~]+)[^~]*~/g, (_all, kind: string, name: string) =>
    kind === 's' ? `‹${name}›` : kind === 'r' ? `‹folder ${name}›` : `‹address ${name}›`,
  );

/**
 * Where a picture may lie that a field names: by an address of the environment or a path, from a root on, or below one
 * of the profile's areas.
 */
export function picturePlaces({ place, profile }: Environment, named: string): { root: string; path: ByteString }[] {
  const below = named
    .replace(/^https?:\/\/[^/]+/, '')
    .replace(/^\/+/, '')
    .replace(/[?#].*$/, '');
  if (below === '' || below.split('/').some((part) => part === '' || part === '.' || part === '..')) return [];
  const areas = areasOf(profile).map((area) => area.path);
  const paths = [below, ...areas.filter((path) => path !== '.').map((path) => `${path}/${below}`)];
  return place.roots.flatMap(({ name }) => paths.map((path) => ({ root: name, path: toBytes(path) })));
}

/** The root and path of a file's item. */
export function placeOfFile(id: string): { root: string; path: ByteString } | undefined {
  const found = /^[^:]+:([^/]+)\/(.+)$/.exec(id);
  return found ? { root: found[1] as string, path: toBytes(found[2] as string) } : undefined;
}
