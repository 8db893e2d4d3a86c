import {
  type ByteString,
  type DatabaseManifest,
  type KeyedHash,
  mapRows,
  maskValue,
  materialiseLines,
  Rewriter,
  type RootManifest,
  type TableManifest,
  toBytes,
} from '@tessarion/core';
import type { PackWriter } from '../blobs/pack-store.js';
import { PostgresLoader } from '../database/postgres-load.js';
import { profileName } from '../database/site-database.js';
import { areasOf, type Environment, keepLinkTarget, keptAreas, layout } from '../environment/environment.js';
import { eachOf, FileForm, pieces } from '../environment/root-reader.js';
import { EngineError } from '../errors.js';
import { checkpoint, type Work } from '../progress.js';
import { RowImageWriter } from '../snapshot/row-image.js';
import { TreeBuilder } from '../snapshot/take.js';
import type { CopySource, SourceTable } from './copy-source.js';
import type { TraceFinder } from './traces.js';

/** What a copy does not receive; kept on record, and never later taken for deleted. */
export interface LeftOut {
  readonly tables: readonly string[];
  readonly areas: readonly string[];
  readonly paths: readonly string[];
}

export interface CopyPlan {
  readonly source: CopySource;
  readonly destination: Environment;
  readonly leftOut: LeftOut;
  /** Exact copies bring back an environment's own state: nothing masked, collected and local rows as they were. */
  readonly exact: boolean;
  /** Masks personal values; keyed by site. */
  readonly hash: KeyedHash;
  readonly traces: TraceFinder | undefined;
  /** Name of the new trees: `trees/ROOT-ID`. */
  readonly treeId: string;
}

/** The two images of a baseline: what the source had, and what the copy holds. */
export interface CopyImages {
  readonly source: { databases: DatabaseManifest[]; roots: RootManifest[] };
  readonly copy: { databases: DatabaseManifest[]; roots: RootManifest[] };
}

/** Fills the destination's (empty) databases and makes its trees, storing both images on the way. */
export async function buildCopy(plan: CopyPlan, writer: PackWriter, work: Work): Promise<CopyImages> {
  const rewriter = new Rewriter(
    plan.destination.place,
    new Map([...plan.destination.settings].map(([name, value]) => [name, toBytes(value)])),
  );
  const images: CopyImages = { source: { databases: [], roots: [] }, copy: { databases: [], roots: [] } };
  await copyDatabases(plan, rewriter, writer, work, images);
  for (const root of plan.source.roots) {
    const manifest = await copyRoot(plan, root, rewriter, writer, work);
    images.source.roots.push(manifest);
    images.copy.roots.push(manifest);
  }
  return images;
}

async function copyDatabases(
  plan: CopyPlan,
  rewriter: Rewriter,
  writer: PackWriter,
  work: Work,
  images: CopyImages,
): Promise<void> {
  for await (const database of plan.source.databases()) {
    const target = plan.destination.databases.find((one) => one.name === database.name);
    if (!target)
      throw new EngineError(
        'schema-unsupported',
        `${plan.destination.path} has no database "${database.name}".`,
        'Give the copy the databases of its source.',
      );
    const loader = await PostgresLoader.open(target.login);
    try {
      const here = (sql: Buffer): Buffer => Buffer.from(rewriter.materialise(sql.toString('latin1')), 'latin1');
      await loader.runSchema(here(database.schemaBefore));
      const tables: { source: TableManifest[]; copy: TableManifest[] } = { source: [], copy: [] };
      for (const table of database.tables) {
        checkpoint(work);
        const copied = await copyTable(plan, table, loader, rewriter, writer, work);
        tables.source.push(copied.source);
        tables.copy.push(copied.copy);
      }
      await loader.setSequences(database.sequences);
      await loader.runSchema(here(database.schemaAfter));
      await loader.analyse();
      const schema = {
        name: database.name,
        server: database.server,
        schemaBefore: await writer.put(database.schemaBefore),
        schemaAfter: await writer.put(database.schemaAfter),
        extensions: [...database.extensions],
        sequences: [...database.sequences],
      };
      images.source.databases.push({ ...schema, tables: tables.source });
      images.copy.databases.push({ ...schema, tables: tables.copy });
    } finally {
      await loader.close();
    }
  }
}

async function copyTable(
  plan: CopyPlan,
  table: SourceTable,
  loader: PostgresLoader,
  rewriter: Rewriter,
  writer: PackWriter,
  work: Work,
): Promise<{ source: TableManifest; copy: TableManifest }> {
  const isLeftOut = plan.leftOut.tables.includes(profileName(table.shape));
  const empty = { ...table.shape, contents: 'structure' as const, rows: 0, bytes: 0 };
  if (isLeftOut || !travels(table, plan.exact)) return { source: empty, copy: empty };

  const change = plan.exact ? undefined : masking(table, plan.hash);
  const sourceImage = new RowImageWriter(writer);
  const copyImage = change ? new RowImageWriter(writer) : sourceImage;
  const keyColumns = table.shape.key.map((name) => table.columns.indexOf(name));
  async function* lines(): AsyncGenerator<ByteString> {
    for await (const canonical of table.rows()) {
      checkpoint(work);
      await sourceImage.add(canonical);
      const kept = change ? change(canonical) : canonical;
      if (change) await copyImage.add(kept);
      const here = materialiseLines(kept, rewriter);
      plan.traces?.inRows(table.shape, table.columns, keyColumns, here);
      work.count({ bytes: here.length });
      yield here;
    }
  }
  const rows = await loader.loadRows(table.shape, table.columns, lines());
  work.count({ rows });
  const describe = async (image: RowImageWriter): Promise<TableManifest> => {
    const blocks = await image.end();
    return {
      ...table.shape,
      contents: 'rows',
      rows: image.rows,
      bytes: image.bytes,
      ...(blocks === undefined ? {} : { blocks }),
    };
  };
  const source = await describe(sourceImage);
  return { source, copy: change ? await describe(copyImage) : source };
}

function travels(table: SourceTable, exact: boolean): boolean {
  if (table.rules.class === 'derived') return false;
  if (exact) return true;
  return table.rules.hasRowGroups || table.rules.class === 'authored' || table.rules.class === 'collected';
}

/** Drops the rows that a copy does not get and masks personal columns; undefined where a table needs neither. */
function masking(table: SourceTable, hash: KeyedHash): ((lines: ByteString) => ByteString) | undefined {
  const { rules } = table;
  const masks = rules.columns.map((column) => (column.mask === 'keep' ? undefined : column.mask));
  if (!rules.hasRowGroups && masks.every((mask) => mask === undefined)) return undefined;
  return (lines) =>
    mapRows(lines, (row) => {
      const rowClass = rules.classOf(row);
      const isSetting = row.some((value) => value?.startsWith('~tsr.s.'));
      if (rowClass !== 'authored' && rowClass !== 'collected' && !isSetting) return null;
      if (rules.isStaff(row)) return row;
      return row.map((value, i) => {
        const mask = masks[i];
        return mask === undefined ? value : maskValue(mask, value, hash);
      });
    });
}

async function copyRoot(
  plan: CopyPlan,
  root: string,
  rewriter: Rewriter,
  writer: PackWriter,
  work: Work,
): Promise<RootManifest> {
  const { destination } = plan;
  const { server, folder } = destination;
  const areas = areasOf(destination.profile);
  const kept = keptAreas(areas);
  const tree = layout.tree(folder, root, plan.treeId);
  const form = new FileForm(destination, rewriter);
  const builder = new TreeBuilder();
  await server.makeFolder(tree);
  for (const area of kept) await server.makeFolder(layout.keep(folder, root, area.name));

  const whereTo = (path: ByteString): ByteString => {
    const area = kept.find((one) => path === one.path || path.startsWith(`${one.path}/`));
    return area ? layout.keep(folder, root, area.name) + path.slice(area.path.length) : `${tree}/${path}`;
  };
  await eachOf(inOrder(plan.source.files(root)), 8, async (file) => {
    checkpoint(work);
    if (isLeftOut(plan, file.path, file.area.name, file.area.class)) return;
    const to = whereTo(file.path);
    if (file.type === 'link') {
      const target = file.target as ByteString;
      await server.makeLink(to, rewriter.materialise(target));
      builder.add(file.path, { type: 'link', name: '', target });
      return;
    }
    const content = await file.content();
    const here = form.materialise(file.path, file.area, content);
    plan.traces?.inFile(file.path, here);
    await server.writeFile(to, here, file.mode);
    const hashes = await Promise.all(pieces(content).map((piece) => writer.put(piece)));
    builder.add(file.path, {
      type: 'file',
      name: '',
      mode: file.mode,
      size: content.length,
      pieces: hashes,
      ...form.plainHash(file.path, file.area, content),
    });
    work.count({ files: 1, bytes: here.length });
  });

  for (const area of kept) {
    const parent = area.path.split('/').slice(0, -1).join('/');
    if (parent !== '') await server.makeFolder(`${tree}/${parent}`);
    await server.makeLink(`${tree}/${area.path}`, keepLinkTarget(root, area));
  }
  return { name: root, ...(await builder.store(writer)) };

  /** Makes each folder before what is in it; files go on to run several at once. */
  async function* inOrder(files: ReturnType<CopySource['files']>): ReturnType<CopySource['files']> {
    for await (const file of files) {
      if (file.type !== 'folder') {
        yield file;
        continue;
      }
      const isKept = kept.some((area) => area.path === file.path);
      if (!isKept && !isLeftOut(plan, file.path, file.area.name, file.area.class))
        await server.makeFolder(whereTo(file.path), file.mode);
      builder.add(file.path, { type: 'folder', name: '', mode: file.mode, tree: '' });
    }
  }
}

function isLeftOut(plan: CopyPlan, path: ByteString, area: string, areaClass: string): boolean {
  if (areaClass === 'derived' || areaClass === 'unclassified') return true;
  if (areaClass === 'local' && !plan.exact) return true;
  const { leftOut } = plan;
  return (
    leftOut.areas.includes(area) ||
    leftOut.paths.some((one) => path === toBytes(one) || path.startsWith(`${toBytes(one)}/`))
  );
}

/** Lets every root lead to its new tree; each in one atomic step. */
export async function switchTrees(environment: Environment, treeId: string, epoch: number): Promise<void> {
  for (const root of environment.place.roots) {
    const link = layout.rootLink(environment.folder, root.name);
    await environment.server.replaceLink(
      link,
      `trees/${root.name}-${treeId}`,
      `${environment.folder}/.switch-${root.name}-${epoch}`,
    );
  }
}
