import { join } from 'node:path';
import {
  type ByteString,
  type KeyedHash,
  mapRows,
  maskValue,
  materialiseLines,
  type Rewriter,
  tableLabel,
} from '@tessarion/core';
import type { Loader } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import { checkpoint, type Work } from '../ports/progress.js';
import { type Environment, layout, rewriterOf } from '../site/environment.js';
import { toPortable } from '../site/portable.js';
import { SpoolWriter } from '../store/spool.js';
import { copyFilesAside } from './file-lane.js';
import type { FilePlan } from './files.js';
import type { SourceDatabase, SourceTable } from './sources.js';

/** What a copy is made of and where it lies. */
export interface CopyPlan extends FilePlan {
  /** The environment that the copy must not be able to reach; undefined for exact copies. */
  readonly guarded: Environment | undefined;
  /** Masks personal values; keyed by site. */
  readonly hash: KeyedHash;
  /** Where what the copy is made of is taken down; undefined when nobody will ask for it. */
  readonly spools: { readonly folder: string; readonly key: Buffer } | undefined;
}

/** The spools of a copy, in the order in which they are packed. */
export const spoolPaths = (folder: string): { rows: string; files: string } => ({
  rows: join(folder, 'rows.spool'),
  files: join(folder, 'files.spool'),
});

/** Addresses that a copy has as its source has them: they stand in values that look serialised and do not parse. */
export interface LeftAlone {
  readonly table: string;
  readonly column: string;
  readonly addresses: number;
}

/**
 * Fills the destination's (empty) databases and makes its trees, side by side. Files are read after every database
 * view is open, so that what rows name is there.
 */
export async function buildCopy(plan: CopyPlan, work: Work): Promise<LeftAlone[]> {
  const { source, spools } = plan;
  const failed = new AbortController();
  const joint: Work = { ...work, signal: AbortSignal.any([work.signal, failed.signal]) };
  const stopBoth = (error: unknown): never => {
    failed.abort(error);
    throw error;
  };
  const spool = spools && new SpoolWriter(spoolPaths(spools.folder).rows, spools.key);
  try {
    const databases = await source.open();
    const files = copyFilesAside(
      plan,
      plan.guarded && toPortable(plan.guarded),
      spools && { path: spoolPaths(spools.folder).files, key: spools.key },
      joint,
    ).catch(stopBoth);
    const rows = copyDatabases(plan, databases, spool, joint).catch(stopBoth);
    // Both are waited for, so that nothing goes on writing when one has failed.
    const [traces, leftAlone] = await settled([files, rows]);
    plan.traces?.add(traces);
    spool?.end();
    return leftAlone;
  } finally {
    spool?.close();
    await source.close();
  }
}

/** Waits for all, and then throws what was thrown first. */
async function settled<T extends readonly Promise<unknown>[]>(
  promises: [...T],
): Promise<{ [K in keyof T]: Awaited<T[K]> }> {
  await Promise.allSettled(promises);
  return Promise.all(promises) as Promise<{ [K in keyof T]: Awaited<T[K]> }>;
}

async function copyDatabases(
  plan: CopyPlan,
  databases: readonly SourceDatabase[],
  spool: SpoolWriter | undefined,
  work: Work,
): Promise<LeftAlone[]> {
  const rewriter = rewriterOf(plan.destination);
  const leftAlone: LeftAlone[] = [];
  for (const database of databases) {
    const target = plan.destination.databases.find((one) => one.name === database.name);
    if (!target)
      throw new EngineError(
        'schema-unsupported',
        `${plan.destination.path} has no database "${database.name}".`,
        'Give the copy the databases of its source.',
      );
    const { name, server, extensions, sequences } = database;
    const [before, after] = [await database.schemaBefore, await database.schemaAfter];
    spool?.event({ is: 'database', name, server, extensions, sequences });
    spool?.bytes(before);
    spool?.bytes(after);
    const loader = await target.system.load(target.login);
    try {
      const here = (sql: Buffer): Buffer => Buffer.from(rewriter.materialise(sql.toString('latin1')), 'latin1');
      await loader.runSchema(here(before));
      for (const table of database.tables) {
        checkpoint(work);
        await copyTable(plan, table, loader, rewriter, spool, work);
        if (!plan.exact) leftAlone.push(...leftIn(table));
      }
      await loader.setSequences(sequences);
      await loader.runSchema(here(after));
    } finally {
      await loader.close();
    }
  }
  return leftAlone;
}

const leftIn = ({ shape, columns, tallies }: SourceTable): LeftAlone[] =>
  (tallies ?? []).flatMap(({ left }, i) =>
    left === 0 ? [] : [{ table: tableLabel(shape), column: columns[i] as string, addresses: left }],
  );

async function copyTable(
  plan: CopyPlan,
  table: SourceTable,
  loader: Loader,
  rewriter: Rewriter,
  spool: SpoolWriter | undefined,
  work: Work,
): Promise<void> {
  const isLeftOut = plan.leftOut.tables.includes(tableLabel(table.shape));
  if (isLeftOut || !travels(table, plan.exact)) {
    spool?.event({ is: 'table', shape: table.shape, contents: 'structure', isMasked: false });
    return;
  }
  const change = plan.exact ? undefined : masking(table, plan.hash);
  const keyColumns = table.shape.key.map((name) => table.columns.indexOf(name));
  async function* translated(): AsyncGenerator<ByteString> {
    if (table.direct && !change) {
      // In one pass, and taken down as the source wrote it: the canonical form is worked out when it is packed.
      const { direct } = table;
      const { place, columns } = direct;
      spool?.event({ is: 'table', shape: table.shape, contents: 'rows', isMasked: false, written: { place, columns } });
      for await (const lines of direct.rows()) {
        spool?.bytes(lines);
        yield direct.rewriter.rewriteTo(lines, rewriter);
      }
      return;
    }
    spool?.event({ is: 'table', shape: table.shape, contents: 'rows', isMasked: change !== undefined });
    for await (const canonical of table.rows()) {
      spool?.bytes(canonical);
      const kept = change ? change(canonical) : canonical;
      if (change) spool?.bytes(kept, 'copy');
      yield materialiseLines(kept, rewriter);
    }
  }
  async function* checked(): AsyncGenerator<ByteString> {
    for await (const lines of translated()) {
      checkpoint(work);
      plan.traces?.inRows(table.shape, table.columns, keyColumns, lines);
      work.count({ bytes: lines.length });
      yield lines;
    }
  }
  work.count({ rows: await loader.loadRows(table.shape, table.columns, checked()) });
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

/** Lets every root lead to its new tree; each in one atomic step. */
export async function switchTrees(environment: Environment, treeId: string, epoch: number): Promise<void> {
  for (const root of environment.place.roots) {
    const { server, folder } = environment;
    await server.replaceLink(
      layout.rootLink(folder, root.name),
      `trees/${root.name}-${treeId}`,
      `${folder}/.switch-${root.name}-${epoch}`,
      // Web servers may ask that a link belongs to whom it leads to.
      await server.nodeAt(layout.tree(folder, root.name, treeId)),
    );
  }
}
