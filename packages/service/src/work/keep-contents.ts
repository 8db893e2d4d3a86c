import type { FileChange } from '@tessarion/core';
import { type Environment, type PackWriter, storeContents } from '@tessarion/engine';
import type { TransferContext } from './context.js';

/** Keeps what files hold or will hold, as far as the store does not have it yet. @param environment where they hold it */
export async function keepContents(
  context: TransferContext,
  environment: Environment,
  files: readonly FileChange[],
  side: 'before' | 'after',
  writer: PackWriter,
): Promise<void> {
  const { store } = context.library();
  const missing: FileChange[] = [];
  for (const change of files) {
    const state = change[side];
    if (state.type !== 'file') continue;
    for (const hash of state.pieces) {
      if (await store.has(hash)) continue;
      missing.push(change);
      break;
    }
  }
  await storeContents(environment, missing, side, writer);
}
