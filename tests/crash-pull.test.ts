import * as fs from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Breakpoint } from './support/breakpoint.js';
import { COPY, Dying, LIVE, STEPS } from './support/dying.js';
import { KeptSite } from './support/kept-site.js';
import { ended, folderOf, onSite, pullInto, type Studio } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let breakpoint: Breakpoint;
let kept: KeptSite;

beforeAll(async () => {
  dying = await Dying.start();
  ({ studio, breakpoint } = dying);
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => dying?.stop());

describe('SIGKILL of the worker in a pull', () => {
  it.each(STEPS)('at "%s" leaves the copy wholly old or wholly new, and its own work whole', async (step) => {
    await kept.restore();
    const mark = `pulled at ${step} ${Date.now()}`;
    await onSite(studio, COPY, (query) => query("UPDATE page SET body = 'In the works' WHERE slug = 'dye'"));
    await onSite(studio, LIVE, (query) => query('UPDATE page SET title = $1', [mark]));
    await onSite(studio, LIVE, (query) =>
      query('INSERT INTO customer (name, email) VALUES ($1, $2)', [mark, 'a@post.example']),
    );
    const upload = (path: string): string => join(folderOf(studio, path), 'main/media/uploads/mark.svg');
    await fs.mkdir(dirname(upload(LIVE)), { recursive: true });
    await fs.writeFile(upload(LIVE), mark);
    const customers = async (path: string): Promise<number> =>
      Number(await dying.one(path, 'SELECT count(*) FROM customer'));
    const before = await customers(COPY);
    await breakpoint.set(step);
    const transfer = await pullInto(studio, LIVE, COPY);
    await dying.killAtBreakpoint(transfer);
    const end = await ended(studio, transfer);
    const found = [
      Number(await dying.one(COPY, `SELECT count(*) FROM page WHERE title = '${mark}'`)),
      (await customers(COPY)) - before,
      await fs.readFile(upload(COPY), 'utf8').catch(() => ''),
    ];
    if (end.state === 'done') expect(found).toEqual([2, 1, mark]);
    else {
      expect(['compare', 'safety', 'stage', 'hold']).toContain(step);
      expect(found.slice(0, 2)).toEqual([0, 0]);
      expect(found[2]).not.toBe(mark);
    }
    expect(await dying.one(COPY, "SELECT body FROM page WHERE slug = 'dye'")).toBe('In the works');
  });
});
