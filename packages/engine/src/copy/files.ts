import { isDeepStrictEqual } from 'node:util';
import { type AreaRule, type ByteString, toBytes } from '@tessarion/core';
import { checkpoint, type Work } from '../ports/progress.js';
import { type CopyOrder, type FileContent, onOneMachine, whileStill, whileThere } from '../ports/server.js';
import { areasOf, type Environment, keepLinkTarget, keptAreas, layout, rewriterOf } from '../site/environment.js';
import type { LeftOut } from '../site/left-out.js';
import { eachOf, FileForm, PIECE_BYTES } from '../site/root-reader.js';
import type { SpoolWriter } from '../store/spool.js';
import type { CopySource, SourceFile } from './sources.js';
import type { FileTraces, TraceFinder } from './traces.js';

/** What files are copied from where to where. */
export interface FilePlan {
  readonly source: CopySource;
  readonly destination: Environment;
  readonly leftOut: LeftOut;
  /** Exact copies bring back an environment's own state: local files too, as they were. */
  readonly exact: boolean;
  /** Name of the new trees: `trees/ROOT-ID`. */
  readonly treeId: string;
  readonly traces: TraceFinder | undefined;
  /** Whom the copy's files belong to where the source does not say it file by file: as there. */
  readonly like: Environment;
}

const SCRATCH_BYTES = 256 * 1024;
/** Files that are copied side by side from or to a far server. */
const FAR_LANES = 32;

/** Makes the new tree of one root, beside those in use, and takes down in `spool` what it was made of. */
export async function copyRoot(
  plan: FilePlan,
  root: string,
  spool: SpoolWriter | undefined,
  work: Work,
): Promise<void> {
  const { destination } = plan;
  const { server, folder } = destination;
  const areas = areasOf(destination.profile);
  const kept = keptAreas(areas);
  const tree = layout.tree(folder, root, plan.treeId);
  const rewriter = rewriterOf(destination);
  const form = new FileForm(destination, rewriter);
  spool?.event({ is: 'root', name: root });
  await layOut(plan, root, tree, kept);

  const whereTo = (path: ByteString): ByteString => {
    const area = kept.find((one) => path === one.path || path.startsWith(`${one.path}/`));
    return area ? layout.keep(folder, root, area.name) + path.slice(area.path.length) : `${tree}/${path}`;
  };
  const { isNear, canMakeThere, lanes } = liesWhere(plan);
  const batch = canMakeThere ? new Batch(plan, spool, work) : undefined;
  const scratch = lanes === 1 ? Buffer.allocUnsafe(SCRATCH_BYTES) : undefined;
  // What belongs to a file is taken down in the same moment.
  await eachOf(foldersFirst(filesHere(plan.source.files(root))), lanes, async (file) => {
    checkpoint(work);
    if (isLeftOut(plan, file)) return;
    const to = whereTo(file.path);
    if (file.type === 'file' && file.at && batch && !form.isTranslated(file.path, file.area))
      return batch.add(file, file.at, to);
    await batch?.flush();
    if (file.type === 'link') {
      const target = file.target as ByteString;
      // A kept area may hold the link of the copy that is made anew.
      if (!to.startsWith(`${tree}/`)) await server.remove(to);
      await server.makeLink(to, rewriter.materialise(target), file.owner);
      spool?.event({ is: 'link', path: file.path, target });
      return;
    }
    await whileThere(() => copyOne(file, to));
  });
  await batch?.flush();

  async function copyOne(file: SourceFile, to: ByteString): Promise<void> {
    const { path, area, mode } = file;
    if (form.isTranslated(path, area)) {
      const content = await file.content();
      const here = form.materialise(path, area, content);
      plan.traces?.inFile(path).look(here);
      await server.writeFile(to, here, mode, file);
      spool?.event({ is: 'file', path, mode, ...form.plainHash(path, area, content) });
      spool?.bytes(content);
      work.count({ files: 1, bytes: here.length });
    } else {
      const identity = await whileStill(async () => server.writeFile(to, await untranslated(file), mode, file));
      spool?.event({
        is: 'file',
        path,
        mode,
        at: [{ realPath: to, identity }, ...(file.at && isNear ? [file.at] : [])],
      });
      work.count({ files: 1, bytes: file.bytes });
    }
  }

  async function untranslated(file: SourceFile): Promise<FileContent> {
    const traces = plan.traces?.inFile(file.path);
    if (file.bytes > PIECE_BYTES) return looked(file.pieces(), traces);
    const content = await file.content(scratch);
    traces?.look(content);
    return content;
  }

  for (const area of kept) {
    const parent = area.path.split('/').slice(0, -1).join('/');
    if (parent !== '') await server.makeFolder(`${tree}/${parent}`);
    await server.makeLink(`${tree}/${area.path}`, keepLinkTarget(root, area));
  }

  async function* filesHere(files: AsyncIterable<SourceFile>): AsyncGenerator<SourceFile> {
    for await (const file of files) yield isNear ? file : fromElsewhere(file);
  }

  /** Makes each folder before what is in it. */
  async function* foldersFirst(files: AsyncIterable<SourceFile>): AsyncGenerator<SourceFile> {
    for await (const file of files) {
      if (file.type !== 'folder') {
        yield file;
        continue;
      }
      const isKept = kept.some((area) => area.path === file.path);
      if (!isKept && !isLeftOut(plan, file)) {
        await server.makeFolder(whereTo(file.path), file.mode, file.owner);
        if (file.acl !== undefined) await server.writeAcls(new Map([[whereTo(file.path), file.acl]]));
      }
      spool?.event({ is: 'folder', path: file.path, mode: file.mode });
    }
  }
}

/** Where a source lies, seen from its copy: whom files belong to on another machine says nothing here. */
function liesWhere({ source: { lieAt }, destination: { server } }: FilePlan) {
  const isNear = lieAt === undefined || onOneMachine(lieAt, server);
  const canMakeThere = server.isFar && lieAt !== undefined && isDeepStrictEqual(lieAt.reach, server.reach);
  // Each file takes as long as it travels, however small it is.
  return { isNear, canMakeThere, lanes: !canMakeThere && (server.isFar || lieAt?.isFar) ? FAR_LANES : 1 };
}

/** Makes a tree's own folder and those of its kept areas, as they are at the environment that the copy is to be like. */
async function layOut(plan: FilePlan, root: string, tree: ByteString, kept: readonly AreaRule[]): Promise<void> {
  const { like } = plan;
  const { server, folder } = plan.destination;
  const top = await topOf(like, root);
  const makeLike = async (there: ByteString, to: ByteString): Promise<void> => {
    const node = await like.server.nodeAt(there);
    const isNear = onOneMachine(like.server, server);
    await server.makeFolder(to, node?.mode, isNear ? node : undefined);
    const acl = node && isNear && (await like.server.readAcls(there, ['.'])).get('.');
    if (acl) await server.writeAcls(new Map([[to, acl]]));
  };
  await makeLike(top, tree);
  for (const area of kept) {
    const there = layout.keep(like.folder, root, area.name);
    const isThere = await like.server.exists(there);
    await makeLike(isThere ? there : top, layout.keep(folder, root, area.name));
  }
}

/** A file of another machine: it belongs here to whom its folder does, and has no rights of anybody's there. */
const fromElsewhere = (file: SourceFile): SourceFile =>
  Object.create(file, { owner: { value: undefined }, acl: { value: undefined } });

/** Files that are copied at once, where source and copy lie on one machine: their bytes stay there. */
class Batch {
  readonly #waiting: { readonly file: SourceFile; readonly order: CopyOrder; readonly at: FilePlaceOf }[] = [];
  #bytes = 0;

  constructor(
    private readonly plan: FilePlan,
    private readonly spool: SpoolWriter | undefined,
    private readonly work: Work,
  ) {}

  async add(file: SourceFile, at: FilePlaceOf, to: ByteString): Promise<void> {
    const { mode, owner, acl, modified } = file;
    this.#waiting.push({ file, at, order: { from: at.realPath, to, mode, owner, acl, modified } });
    this.#bytes += file.bytes;
    if (this.#waiting.length >= BATCH_FILES || this.#bytes >= BATCH_BYTES) await this.flush();
  }

  async flush(): Promise<void> {
    const [some, { traces, destination }] = [this.#waiting.splice(0), this.plan];
    this.#bytes = 0;
    const made = await destination.server.copyMany(
      some.map(({ order }) => order),
      traces?.words ?? [],
    );
    for (const [i, { file, at, order }] of some.entries()) {
      const one = made[i];
      // It was there when it was listed, and has gone since.
      if (!one) continue;
      if (one.holds.length > 0) await this.#look(file.path, order.to);
      const places = [{ realPath: order.to, identity: one.identity }, at];
      this.spool?.event({ is: 'file', path: file.path, mode: file.mode, at: places });
      this.work.count({ files: 1, bytes: file.bytes });
    }
    checkpoint(this.work);
  }

  /** Looks closely at a file that holds what a copy must not hold, as a part of something or by itself. */
  async #look(path: ByteString, at: ByteString): Promise<void> {
    const traces = this.plan.traces?.inFile(path);
    for await (const piece of this.plan.destination.server.readPieces(at, PIECE_BYTES)) traces?.look(piece);
  }
}

type FilePlaceOf = NonNullable<SourceFile['at']>;

/** What is copied at once is told once it is done, and stopped in between. */
const BATCH_FILES = 256;
const BATCH_BYTES = 32 * 1024 * 1024;

/** The folder of a root in use. */
async function topOf({ server, folder }: Environment, root: string): Promise<ByteString> {
  const link = layout.rootLink(folder, root);
  const target = await server.readLink(link);
  return target === undefined ? link : target.startsWith('/') ? target : `${folder}/${target}`;
}

async function* looked(pieces: AsyncIterable<Buffer>, traces: FileTraces | undefined): AsyncGenerator<Buffer> {
  for await (const piece of pieces) {
    traces?.look(piece);
    yield piece;
  }
}

function isLeftOut(plan: FilePlan, { path, area }: SourceFile): boolean {
  if (area.class === 'derived') return true;
  if ((area.class === 'local' || area.class === 'unclassified') && !plan.exact) return true;
  const { leftOut } = plan;
  return (
    leftOut.areas.includes(area.name) ||
    leftOut.paths.some((one) => path === toBytes(one) || path.startsWith(`${toBytes(one)}/`))
  );
}
