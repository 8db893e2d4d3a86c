import type { FileChange, FileState } from '@tessarion/core';
import { type Environment, walkRoot } from '@tessarion/engine';

const ALL = new Set(['authored', 'collected', 'local', 'derived', 'unclassified'] as const);

/** How large an environment is; sizes in bytes. */
export interface MeasuredSize {
  readonly files: number;
  readonly fileBytes: number;
  readonly rows: number;
  readonly databaseBytes: number;
}

/**
 * How large an environment is. Rows are the database server's own estimate.
 *
 * @param known sizes of files that are known to stand
 */
export async function measure(
  environment: Environment,
  known?: Pick<MeasuredSize, 'files' | 'fileBytes'>,
): Promise<MeasuredSize> {
  const { files, fileBytes } = known ?? (await measureFiles(environment));
  let [rows, databaseBytes] = [0, 0];
  for (const database of environment.databases) {
    const questions = await database.system.ask(database, 'measure');
    try {
      const size = await questions.size();
      databaseBytes += size.bytes;
      rows += size.rows;
    } finally {
      await questions.close();
    }
  }
  return { files, fileBytes, rows, databaseBytes };
}

/** How large the files of an environment are after changes to them; the next round measures them anew. */
export function sizeAfter(
  { files, fileBytes }: Pick<MeasuredSize, 'files' | 'fileBytes'>,
  changes: readonly FileChange[],
): Pick<MeasuredSize, 'files' | 'fileBytes'> {
  const sum = (count: (state: FileState) => number): number =>
    changes.reduce((total, { before, after }) => total + count(after) - count(before), 0);
  return {
    files: files + sum((state) => (state.type === 'file' ? 1 : 0)),
    fileBytes: fileBytes + sum((state) => (state.type === 'file' ? state.size : 0)),
  };
}

async function measureFiles(environment: Environment): Promise<Pick<MeasuredSize, 'files' | 'fileBytes'>> {
  let [files, fileBytes] = [0, 0];
  for (const root of environment.place.roots) {
    for await (const { node } of walkRoot(environment, root.name, ALL)) {
      if (node.type !== 'file') continue;
      files++;
      fileBytes += node.bytes;
    }
  }
  return { files, fileBytes };
}
