import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { dirname } from 'node:path';

/** Writes a small file for its owner alone that is there whole, the former one or this one, whatever happens meanwhile. */
export async function writeWhole(path: string, content: string): Promise<void> {
  const temporary = `${path}.${randomUUID()}`;
  try {
    const file = await fs.open(temporary, 'wx', 0o600);
    try {
      await file.writeFile(content);
      await file.sync();
    } finally {
      await file.close();
    }
    await fs.rename(temporary, path);
  } catch (error) {
    await fs.rm(temporary, { force: true });
    throw error;
  }
  const folder = await fs.open(dirname(path));
  await folder.sync().finally(() => folder.close());
}
