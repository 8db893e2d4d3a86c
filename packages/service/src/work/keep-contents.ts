import type { FileChange } from '@tessarion/core';
import { type Environment, type PackWriter, storeContents } from '@tessarion/engine';
import type { TransferContext } from './context.js';

/** Keeps what files will hold, as far as the store does not have it yet. @param source where they hold it already */
export async function keepNewContents(
  context: TransferContext,
  source: Environment,
  files: readonly FileChange[],
  writer: PackWriter,
): Promise<void> {
  await storeContents(source, await notStored(context, files), 'after', writer);
}

/** Files whose new content the store does not have yet; what was merged out of both sides lies there already. */
async function notStored(context: TransferContext, files: readonly FileChange[]): Promise<FileChange[]> {
  const { store } = context.library();
  const missing: FileChange[] = [];
  for (const change of files) {
    if (change.after.type !== 'file') continue;
    const known = await Promise.all(change.after.pieces.map((hash) => store.has(hash)));
    if (known.includes(false)) missing.push(change);
  }
  return missing;
}
