import type { TransferKind } from '@tessarion/contract';
import type { TransferContext } from './context.js';

/** One recorded step of a transfer. Steps are recorded before they are done, and can be run again. */
export interface ProcedureStep {
  readonly name: string;
  /** What people read while it runs, such as `Copy the rows`. */
  readonly title: string;
  /**
   * Visitors are held while it runs, so that nobody waits for the disk when it begins: a recovery that does not know that it
   * has begun does the step before it once more, and finds out what was done.
   */
  readonly isHeld?: boolean;
  /** @returns what was done, in a few words */
  run(context: TransferContext): Promise<string | undefined>;
}

/** How one kind of transfer is done, and what happens when it ends half-way. */
export interface Procedure {
  readonly kind: TransferKind;
  readonly steps: readonly ProcedureStep[];
  /**
   * Decides for a transfer that stopped in a step: true when it must go forward from there, since what visitors see
   * has changed or is about to; false when it is put back.
   */
  mustGoForward(context: TransferContext, step: string): Promise<boolean>;
  /** Removes everything that was made; safe to run again, and when nothing was made. @returns what could not be taken back */
  putBack(context: TransferContext): Promise<string[]>;
}
