import type { Transfer } from '@tessarion/contract';
import type { Permission, Thing } from '@tessarion/core';
import type { OnRecords } from '../../ground/open.js';
import type { Doer } from '../../people/people.js';
import type { Installation } from '../../transfers/installation.js';
import { toTransfer, type Wanted } from '../../transfers/transfers.js';

/** Who starts a transfer, whatever they came by: a call of the interface, a schedule, an act over many sites. */
export interface Starter {
  readonly installation: Installation;
  readonly person: Doer & { readonly id: string };
  /** For what asking for such a transfer alone does not allow. @throws {ProblemError} `not-allowed` */
  mustHold(permission: Permission, thing: Thing): void;
  /** Writes it into the journal, in its own transaction. @param thing what is acted upon */
  note(on: OnRecords, thing: string, details: Readonly<Record<string, unknown>>): Promise<void>;
}

/** Records a transfer and that somebody started it, in one transaction. @param details what the journal says beside its id */
export async function start(
  trx: OnRecords,
  { installation: { transfers }, person, note }: Starter,
  wanted: Wanted,
  details: Readonly<Record<string, unknown>> = {},
  thing: string = wanted.onto,
): Promise<Transfer> {
  const transfer = await transfers.create(trx, { ...wanted, by: person });
  await note(trx, thing, { transfer: transfer.id, ...details });
  return toTransfer(transfer, await transfers.placeInLine(trx, transfer));
}
