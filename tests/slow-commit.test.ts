import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { done, folderOf, onSite, pushOnto, type Studio, startStudio } from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
/** Longer than a hold lasts that nobody keeps. */
const SECONDS = 10;

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

describe('a commit that takes longer than a hold lasts by itself', () => {
  it('shows nobody new rows with old files, and the record says for how long visitors waited', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE page SET body = 'NEW ROW' WHERE slug = 'dye'"));
    await fs.writeFile(join(folderOf(studio, COPY), 'main/styles/site.css'), '/* NEW FILE */');
    await onSite(studio, LIVE, async (query) => {
      await query(`CREATE FUNCTION slowly() RETURNS trigger LANGUAGE plpgsql AS
        $$ BEGIN PERFORM pg_catalog.pg_sleep(${SECONDS}); RETURN NULL; END $$`);
      await query(`CREATE CONSTRAINT TRIGGER slowly AFTER UPDATE ON page DEFERRABLE INITIALLY DEFERRED
        FOR EACH ROW EXECUTE FUNCTION slowly()`);
    });
    const get = async (path: string): Promise<string> =>
      (await visit(studio.gatewayPort, 'threadmill.localhost', path)).body.toString();
    let isOver = false;
    const seen = new Set<string>();
    const visitor = (async () => {
      while (!isOver) {
        // The row first: a file that is asked for after it can only be newer.
        const row = (await get('/page/dye')).includes('NEW ROW') ? 'new row' : 'old row';
        const file = (await get('/styles/site.css')).includes('NEW FILE') ? 'new file' : 'old file';
        seen.add(`${row}, ${file}`);
      }
    })();
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    isOver = true;
    await visitor;
    expect([...seen]).not.toContain('new row, old file');
    expect(await get('/page/dye')).toContain('NEW ROW');
    const waited = push.steps.flatMap(
      ({ detail }) => /visitors waited at most (\d+) ms$/.exec(detail ?? '')?.[1] ?? [],
    );
    expect(waited).toHaveLength(1);
    expect(Number(waited[0])).toBeGreaterThanOrEqual(SECONDS * 1000);
  });
});
