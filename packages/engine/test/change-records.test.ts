import { join } from 'node:path';
import type { SnapshotManifest } from '@tessarion/core';
import fc from 'fast-check';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { compareEnvironments } from '../src/compare/environments.js';
import type { Baseline, EnvironmentComparison } from '../src/compare/plan.js';
import { isUnwritten, type Standing } from '../src/compare/standing.js';
import { ChangeRecords } from '../src/compare/unlike-records.js';
import { takeParts } from '../src/copy/take.js';
import type { Environment } from '../src/site/environment.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { readRowImage } from '../src/store/row-image.js';
import { SealedFile } from '../src/store/sealed-file.js';
import { idle, profileOf, type Query, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: {
  page: { class: authored },
  part: { class: authored },
  word: { class: authored },
  mark: { class: authored } } } }
`);
/** Rows are long, so that a table of sixty has many blocks. */
const SCHEMA = `
  CREATE TABLE page (id serial PRIMARY KEY, body text NOT NULL, parent int);
  CREATE TABLE part (page_id int, place int, text text, PRIMARY KEY (page_id, place));
  CREATE TABLE word (word text PRIMARY KEY, n int);
  CREATE TABLE mark (line text);
  INSERT INTO page (id, body) SELECT 10 * n, repeat(md5(n::text), 80) FROM generate_series(1, 60) AS n;
  INSERT INTO part SELECT n, 1, 'part' FROM generate_series(1, 5) AS n;
  INSERT INTO word SELECT 'word ' || n, n FROM generate_series(1, 5) AS n;
  INSERT INTO mark VALUES ('a'), ('a'), ('b');`;

type End = { environment: Environment; query: Query };
let yard: Yard;
let live: End;
let copy: End;

beforeAll(async () => {
  yard = await Yard.open();
  live = await yard.environment('live', 'https://loom.example', PROFILE, { kind: 'live', sql: SCHEMA });
  copy = await yard.environment('copy', 'http://loom--copy.localhost:7400', PROFILE, { sql: SCHEMA });
}, 60_000);
afterAll(() => yard?.close());

const library = () => new SnapshotLibrary(new FolderObjects(yard.folder), Buffer.alloc(32));

async function imageOf({ environment }: End): Promise<SnapshotManifest> {
  const store = library();
  const writer = await store.store.writer();
  const parts = await takeParts(environment, writer, idle);
  await writer.close();
  return {
    format: 'tessarion-snapshot/1',
    id: 'b',
    site: 'loom',
    environment: environment.name,
    kind: environment.kind,
    takenAt: '2026-01-01T00:00:00Z',
    profile: null,
    ...parts,
  };
}

const bothImages = async (): Promise<Baseline> => ({
  source: await imageOf(copy),
  destination: await imageOf(live),
  leftOut: { tables: [], paths: [], areas: [] },
  keys: [],
  seen: new Set<string>(),
  isDerived: false,
});

async function compare(baseline: Baseline, changes: ChangeRecords | undefined): Promise<EnvironmentComparison> {
  const found = await compareEnvironments({
    changes,
    source: { environment: copy.environment },
    destination: live.environment,
    baseline,
    library: library(),
    memories: { source: undefined, destination: undefined },
    profileVersion: 'loom/1',
    method: 'merge',
    direction: 'up',
    mask: (_rule, value) => value,
    takes: new Set<string>(),
  });
  await changes?.save();
  return found;
}

/** What a comparison found, without what it is made of. */
const told = ({ rows: { outcomes, ownChanges, lacking } }: EnvironmentComparison): unknown => ({
  outcomes: outcomes.map(({ table, key, sourceKey, raw, decision }) => ({
    at: table.id,
    key,
    sourceKey,
    raw,
    decision,
  })),
  ownChanges: ownChanges.map(({ table, key, values, isNews }) => ({ at: table.id, key, values, isNews })),
  lacking: lacking.map(({ table, key }) => ({ at: table.id, key })),
});

const partsOf = (sql: string): string[] => (sql.startsWith('DO') ? [sql] : sql.split('; '));

const key = fc.integer({ min: 1, max: 620 });
const statement = fc.oneof(
  fc
    .tuple(key, fc.nat(9))
    .map(([id, n]) => `UPDATE page SET body = 'changed ${n}' WHERE id = (SELECT min(id) FROM page WHERE id >= ${id})`),
  key.map((id) => `UPDATE page SET body = body WHERE id = (SELECT min(id) FROM page WHERE id >= ${id})`),
  key.map((id) => `DELETE FROM page WHERE id = (SELECT min(id) FROM page WHERE id >= ${id})`),
  fc
    .tuple(key, key)
    .map(([id, to]) => `INSERT INTO page (id, body, parent) VALUES (${id}, 'new', ${to}) ON CONFLICT DO NOTHING`),
  fc
    .tuple(key, key)
    .map(
      ([id, to]) => `UPDATE page SET id = ${to} WHERE id = ${id} AND NOT EXISTS (SELECT FROM page WHERE id = ${to})`,
    ),
  fc.nat(4).map((n) => `UPDATE part SET text = text || '.' WHERE page_id = ${n}`),
  fc.nat(6).map((n) => `DELETE FROM word WHERE n = ${n}`),
  fc.constantFrom(
    "INSERT INTO mark VALUES ('a')",
    'DELETE FROM mark WHERE ctid = (SELECT min(ctid) FROM mark)',
    "INSERT INTO word VALUES ('more', 1) ON CONFLICT DO NOTHING",
    'VACUUM FULL page',
    'VACUUM FREEZE page',
    'DO $$ BEGIN FOR i IN 1..150 LOOP PERFORM pg_current_xact_id(); COMMIT; END LOOP; END $$',
    "BEGIN; DELETE FROM page; INSERT INTO page (id, body) VALUES (1, 'lost'); ROLLBACK",
  ),
);
/** What happens between two comparisons; `open` writes in a transaction that ends only after the next comparison. */
const chapter = fc.record({
  copy: fc.array(statement, { maxLength: 4 }),
  live: fc.array(statement, { maxLength: 4 }),
  open: fc.option(fc.tuple(key, key), { nil: undefined }),
  /** Both images become what the ends hold, or what live holds and what is remembered is told at which rows. */
  movesOn: fc.constantFrom('no', 'to both', 'to live, told'),
});

/** The keys of rows that an image has and another one has not, or otherwise. */
async function movedKeys(before: SnapshotManifest, after: SnapshotManifest): Promise<Set<string>> {
  const linesOf = async (image: SnapshotManifest): Promise<Set<string>> => {
    const table = image.databases[0]?.tables.find(({ name }) => name === 'page');
    let all = '';
    for await (const batch of readRowImage(library().store, table)) all += batch;
    return new Set(all.split('\n').slice(0, -1));
  };
  const [then, now] = [await linesOf(before), await linesOf(after)];
  const moved = [...then].filter((one) => !now.has(one)).concat([...now].filter((one) => !then.has(one)));
  return new Set(moved.map((line) => line.slice(0, line.indexOf('\t'))));
}

/** Lets both images of a baseline become others, and tells the change records of it. */
async function moveOn(file: SealedFile, before: Baseline, after: Baseline): Promise<void> {
  const records = await ChangeRecords.open(file);
  const keys = new Set([
    ...(await movedKeys(before.source, after.source)),
    ...(await movedKeys(before.destination, after.destination)),
  ]);
  const images = new Map([
    [copy.environment.path, { before: before.source, after: after.source }],
    [live.environment.path, { before: before.destination, after: after.destination }],
  ]);
  const remembered = records.tables.has('main/public.page');
  expect(records.follow(images, new Map([['main/public.page', keys]]))).toBe(remembered);
  await records.save();
}

async function visitor(): Promise<pg.Client> {
  const client = new pg.Client((live.environment.databases[0] as { login: pg.ClientConfig }).login);
  await client.connect();
  return client;
}

describe('change records', () => {
  it('tell of every change that reading everything tells of, and of no other', async () => {
    let number = 0;
    const ends = [copy.environment, live.environment];
    await fc.assert(
      fc.asyncProperty(fc.array(chapter, { minLength: 1, maxLength: 3 }), async (chapters) => {
        for (const { query } of [copy, live]) await query(`DROP TABLE page, part, word, mark; ${SCHEMA}`);
        const file = new SealedFile(join(yard.folder, `changes-${number++}`), Buffer.alloc(32));
        let baseline = await bothImages();
        const late = await visitor();
        try {
          let last = await compare(baseline, await ChangeRecords.open(file));
          /** What is proved not to have been written to must be found as it was found before. */
          const again = async (): Promise<void> => {
            const isProved = await isUnwritten(last.standing as Standing, ends);
            const whole = told(await compare(baseline, undefined));
            if (isProved) expect(whole).toEqual(told(last));
            last = await compare(baseline, await ChangeRecords.open(file));
            expect(told(last)).toEqual(whole);
          };
          for (const one of chapters) {
            // A transaction that has its number before the comparison, and writes after it.
            await late.query('BEGIN; SELECT pg_current_xact_id()');
            for (const sql of one.copy) for (const part of partsOf(sql)) await copy.query(part);
            for (const sql of one.live) for (const part of partsOf(sql)) await live.query(part);
            await again();
            if (one.movesOn !== 'no') {
              const before = baseline;
              const { destination, ...rest } = await bothImages();
              const isTold = one.movesOn === 'to live, told';
              baseline = { ...rest, destination, source: isTold ? destination : rest.source };
              if (isTold) await moveOn(file, before, baseline);
              last = await compare(baseline, await ChangeRecords.open(file));
              expect(told(last)).toEqual(told(await compare(baseline, undefined)));
            }
            if (one.open)
              await late.query(`DELETE FROM page WHERE id BETWEEN ${one.open[0]} AND ${one.open[0] + 10};
                UPDATE page SET body = 'late' WHERE id BETWEEN ${one.open[1]} AND ${one.open[1] + 10}`);
            await late.query('COMMIT');
            await again();
            expect(await isUnwritten(last.standing as Standing, ends)).toBe(true);
          }
        } finally {
          await late.end();
        }
      }),
      {
        numRuns: Number(process.env.TESSARION_CHANGE_CASES ?? 5),
        seed: 20261123,
        // The copy holds a row that its image gets otherwise, and that nobody wrote to since it was last looked at.
        examples: [
          [
            [
              { copy: ["UPDATE page SET body = 'mine' WHERE id = 300"], live: [], open: undefined, movesOn: 'to both' },
              { copy: [], live: [], open: undefined, movesOn: 'to live, told' },
            ],
          ],
        ],
      },
    );
  }, 600_000);
});
