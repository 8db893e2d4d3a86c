import { type Change, calledIn, tableOf } from '@tessarion/core';
import { asReadBack, compareWithFormer, type Environment, HashMemory } from '@tessarion/engine';
import { profileOfSite } from '../fleet/profiles.js';
import { nameOfRow, readBackOf } from '../stored/read-back.js';
import { libraryOf } from '../stored/snapshots.js';
import type { Installation } from '../transfers/installation.js';
import type { TransferRecord } from '../transfers/transfers.js';
import { Gathering } from './gathering.js';
import type { TransferFacts, TransferWish } from './transfer-facts.js';

/** What a transfer wrote, as it turned out. */
async function writtenBy(installation: Installation, transfer: TransferRecord): Promise<Change[]> {
  const library = libraryOf(installation.folder, transfer.site);
  const found = await readBackOf(library, transfer);
  const changes: Change[] = [];
  for await (const change of library.readChanges(transfer.id))
    changes.push(change.part === 'row' ? asReadBack(change, found.get(nameOfRow(change))) : change);
  return changes;
}

/** Works out what taking a transfer back would do, and gathers everything that a forecast of it says. Read only. */
export async function gatherUndo(
  installation: Installation,
  transfer: TransferRecord,
  destination: Environment,
  wish: TransferWish,
): Promise<TransferFacts> {
  const { records, folder } = installation;
  const version = await profileOfSite(records, destination.site);
  const memory = await HashMemory.open(folder.memory(destination.path));
  const comparison = await compareWithFormer({
    destination,
    changes: await writtenBy(installation, transfer),
    direction: transfer.kind === 'pull' ? 'down' : 'up',
    store: libraryOf(folder, destination.site).store,
    memory,
    profileVersion: version?.edition ?? '',
  });
  memory.save();
  const facts = await new Gathering(comparison, destination, destination, wish, undefined, []).facts(
    { undoes: transfer.id },
    '',
    undefined,
  );
  const gone = [...new Set(comparison.gone.map((one) => calledIn(destination.profile, tableOf(one))))];
  if (gone.length > 0)
    facts.checks.push({
      name: 'rows that are gone',
      state: 'warning',
      message: `${comparison.gone.length === 1 ? 'One row' : `${comparison.gone.length} rows`} that ${transfer.id} changed in ${gone.join(', ')} ${comparison.gone.length === 1 ? 'was' : 'were'} deleted since, and ${comparison.gone.length === 1 ? 'stays' : 'stay'} so.`,
    });
  return facts;
}
