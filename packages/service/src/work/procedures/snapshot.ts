import { takeParts } from '@tessarion/engine';
import { newId } from '../../ground/data-folder.js';
import { insertSnapshot, removeSnapshot } from '../../stored/snapshots.js';
import { inputOf } from '../../transfers/inputs.js';
import type { TransferContext } from '../context.js';
import type { Procedure } from '../procedure.js';

/** Takes a snapshot of an environment and records it. @returns its id */
export async function takeSnapshot(
  context: TransferContext,
  path: string,
  id: string,
  reason: string,
): Promise<string> {
  const environment = await context.environment(path);
  const library = context.library();
  const { installation } = context;
  const [parts, writer] = await library.store.write(
    async (writer) => [await takeParts(environment, writer, context.work), writer] as const,
  );
  const takenAt = installation.now();
  await library.save({
    format: 'tessarion-snapshot/1',
    id,
    site: environment.site,
    environment: environment.name,
    kind: environment.kind,
    takenAt: takenAt.toISOString(),
    profile: await context.profileVersion(environment.site),
    ...parts,
  });
  const sum = (numbers: readonly number[]): number => numbers.reduce((total, one) => total + one, 0);
  const tables = parts.databases.flatMap((database) => database.tables);
  await insertSnapshot(installation.records, {
    id,
    site: environment.site,
    environment: path,
    kind: environment.kind,
    taken_at: takenAt,
    reason,
    files: sum(parts.roots.map((root) => root.files)),
    rows: sum(tables.map((table) => table.rows)),
    bytes: sum(parts.roots.map((root) => root.bytes)) + sum(tables.map((table) => table.bytes)),
    added_bytes: writer.addedBytes,
    verified_at: null,
    damage: [],
  });
  return id;
}

/** Takes a snapshot of an environment. */
export const snapshot: Procedure = {
  kind: 'snapshot',
  steps: [
    {
      name: 'take',
      title: 'Read databases and files',
      async run(context) {
        const id = newId('s');
        await context.remember({ snapshot: id });
        await takeSnapshot(context, context.record.onto_path, id, inputOf(context.record, 'snapshot').reason);
        return `Snapshot ${id}`;
      },
    },
  ],
  async mustGoForward() {
    return false;
  },
  async putBack(context) {
    const id = context.data.snapshot;
    if (id === undefined) return [];
    await removeSnapshot(context.installation.records, id);
    await context.library().discard(id);
    return [];
  },
};
