import { execFile, execFileSync } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { done, forecastOf, makeCopy, type Studio, startStudio } from './support/studio.js';

const run = promisify(execFile);
const MEGABYTES = 256;
const FILES = 40;

/** A disk of one's own, of which one can see what is on it at any moment, is not to be had everywhere. */
function mayMount(): boolean {
  const trial = [
    'set -e; cd "$(mktemp -d)"; truncate -s 8M disk; mkfs.ext4 -q disk; mkdir at',
    'mount -o loop disk at; umount at; rm -r "$PWD"',
  ];
  try {
    execFileSync('sh', ['-c', trial.join('\n')], { stdio: 'ignore' });
    return true;
  } catch {
    return false;
  }
}

let studio: Studio;
let disk: string;
let now: string;
let folder: string;

describe.runIf(mayMount())('a loss of power as soon as a transfer is done', () => {
  beforeAll(async () => {
    studio = await startStudio('live');
    await makeCopy(studio, 'threadmill', 'staging');
    // From now on live lies on a disk that keeps nothing back but what nobody asked it to write.
    folder = join(studio.hosts, 'threadmill--live');
    [disk, now] = [join(studio.data, 'disk'), join(studio.data, 'now')];
    const copy = join(studio.data, 'copy');
    await run('truncate', ['-s', `${MEGABYTES}M`, disk]);
    await run('mkfs.ext4', ['-q', disk]);
    await run('cp', ['--archive', folder, copy]);
    await run('mount', ['-o', 'loop', disk, folder]);
    await run('cp', ['--archive', `${copy}/.`, folder]);
    await fs.rm(join(folder, 'lost+found'), { recursive: true });
    await run('sync', ['--file-system', folder]);
  }, 180_000);
  afterAll(async () => {
    if (folder) await run('umount', [folder]).catch(() => undefined);
    await studio?.stop();
  });

  /** What would be found after a loss of power now: the disk as it is, without what only memory holds. */
  async function afterwards<T>(look: (folder: string) => Promise<T>): Promise<T> {
    const [image, place] = [join(studio.data, 'image'), now];
    await run('cp', ['--sparse=always', disk, image]);
    await fs.mkdir(place, { recursive: true });
    await run('mount', ['-o', 'loop', image, place]);
    try {
      return await look(place);
    } finally {
      await run('umount', [place]);
      await fs.rm(image);
    }
  }

  it('finds all that a push wrote', async () => {
    const templates = join(studio.hosts, 'threadmill--staging/main/templates');
    for (let i = 0; i < FILES; i++) await fs.writeFile(join(templates, `new-${i}.html`), `<p>${i}</p>\n`.repeat(50));
    const forecast = await forecastOf(studio, 'threadmill/staging', 'threadmill/live');
    const body = { forecast: forecast.id, confirm: 'threadmill/live' };
    await done(studio, await studio.client.call('pushCreate', { body }));
    const found = await afterwards(async (place) => {
      const main = join(place, await fs.readlink(join(place, 'main')));
      return Promise.all(
        Array.from({ length: FILES }, (_one, i) => fs.readFile(join(main, `templates/new-${i}.html`), 'utf8')),
      );
    });
    expect(found).toEqual(Array.from({ length: FILES }, (_one, i) => `<p>${i}</p>\n`.repeat(50)));
  });
});
