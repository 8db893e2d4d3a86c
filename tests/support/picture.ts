import * as fs from 'node:fs/promises';
import { join } from 'node:path';

/** Everything in a folder, without what links in it lead to: what it is, whose it is, and what it holds. */
export async function picture(folder: string, within = ''): Promise<string[]> {
  const lines: string[] = [];
  for (const entry of await fs.readdir(join(folder, within), { withFileTypes: true })) {
    const name = join(within, entry.name);
    const { uid, gid, mode } = await fs.lstat(join(folder, name));
    const holds = entry.isSymbolicLink()
      ? `link ${await fs.readlink(join(folder, name))}`
      : entry.isFile()
        ? await fs.readFile(join(folder, name), 'utf8')
        : 'folder';
    lines.push(`${name} ${uid} ${gid} ${mode.toString(8)} ${holds}`);
    if (entry.isDirectory()) lines.push(...(await picture(folder, name)));
  }
  return lines.sort();
}
