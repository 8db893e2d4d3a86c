import { ProblemError } from '../../ground/problems.js';
import {
  getSnapshot,
  libraryOf,
  noteVerified,
  removeSnapshot,
  type SnapshotRecord,
  toSnapshot,
  whileStoreRests,
} from '../../stored/snapshots.js';
import { startSnapshot } from '../../work/start/snapshots.js';
import type { Handlers } from './call.js';
import { mustKnowSite } from './known-filters.js';

const GRACE_MS = 10 * 60_000;

export const snapshotHandlers: Handlers<'snapshotList' | 'snapshotTake' | 'snapshotVerify' | 'snapshotRemove'> = {
  async snapshotList({ installation, query, sight }) {
    await mustKnowSite(installation.records, sight, query.site ?? query.environment?.split('/')[0]);
    const rows = installation.records<SnapshotRecord>('snapshot').orderBy('taken_at', 'desc');
    if (query.site !== undefined) rows.where({ site: query.site });
    if (query.environment !== undefined) rows.where({ environment: query.environment });
    sight.narrow(rows, 'site', 'environment');
    return ((await rows) as SnapshotRecord[]).map(toSnapshot);
  },
  snapshotTake: (call) => startSnapshot(call, call.body.environment, call.body.reason ?? ''),
  async snapshotVerify(call) {
    const { installation, params } = call;
    const record = await getSnapshot(installation.records, params.id);
    const library = libraryOf(installation.folder, record.site);
    const damage = await library.verify(await library.load(record.id));
    await installation.records.transaction(async (trx) => {
      await noteVerified(trx, record.id, installation.now(), damage);
      await call.note(trx, record.environment, { snapshot: record.id, damaged: damage.length });
    });
    return toSnapshot(await getSnapshot(installation.records, record.id));
  },
  async snapshotRemove(call) {
    const { installation, params } = call;
    const record = await getSnapshot(installation.records, params.id);
    const { records } = installation;
    // As long as blobs are freed nothing begins that could count on them.
    const freed = await whileStoreRests(records, record.site, async () => {
      // On record before anything is freed: a snapshot that is half gone must not be on offer.
      await records.transaction(async (trx) => {
        await removeSnapshot(trx, record.id);
        await call.note(trx, record.environment, { snapshot: record.id, takenAt: record.taken_at.toISOString() });
      });
      return libraryOf(installation.folder, record.site).remove(record.id, new Date(Date.now() - GRACE_MS));
    });
    if (!freed)
      throw new ProblemError(
        'conflict',
        `Work on ${record.site} is going on that may be using its store.`,
        'Wait until it has ended.',
      );
    return freed;
  },
};
