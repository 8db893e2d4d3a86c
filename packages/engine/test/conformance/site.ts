import { createHmac } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type ByteString, invert, planMerge, type RowChange, settle } from '@tessarion/core';
// A copy has a thread of its own for files, which runs what was built.
import * as built from '@tessarion/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { compareEnvironments } from '../../src/compare/environments.js';
import { misfitsOfChanges } from '../../src/deliver/misfits.js';
import { proveRows } from '../../src/deliver/prove-rows.js';
import { RowApplication } from '../../src/deliver/row-application.js';
import { LocalServer } from '../../src/local/local-server.js';
import type { SiteDatabase } from '../../src/ports/database.js';
import type { Mode } from '../../src/ports/rows.js';
import type { ServerConnection } from '../../src/ports/server.js';
import { type Environment, rewriterOf } from '../../src/site/environment.js';
import { SnapshotLibrary } from '../../src/store/library.js';
import { idle, profileOf } from '../support/pair.js';
import { all, type KindUnderTest, SITE } from './databases.js';
import { MemoryObjects } from './memory-objects.js';

const PROFILE = profileOf(`
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: {
  page: { class: authored }, note: { class: authored }, tag: { class: authored }, log: { class: local },
  sale: { class: collected, columns: { mail: { personal: mail } } } } } }
references: [{ from: sale.page_id, to: page.id }]
`);
const SALE = {
  name: 'sale',
  columns: [
    { name: 'id', type: 'number', isRequired: true },
    { name: 'page_id', type: 'number' },
    { name: 'mail', type: 'text' },
  ],
  key: ['id'],
} as const;
const ADDRESS = { live: ['https', 'loom.example'], copy: ['http', 'loom--copy.localhost'] } as const;

async function* each<T>(items: readonly T[]): AsyncGenerator<T> {
  yield* items;
}

/** A site whose database is of some kind: copied, changed, compared, pushed, proved, taken back. Nothing here asks which kind. */
export function siteSuite(
  title: string,
  open: () => Promise<KindUnderTest>,
  connect: (base: ByteString) => ServerConnection = (base) => new LocalServer(base),
): void {
  describe(`a site in ${title}`, () => {
    let kind: KindUnderTest;
    let folder: string;
    beforeAll(async () => {
      kind = await open();
      folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-kind-'));
    });
    afterAll(async () => {
      await kind?.close();
      await fs.rm(folder, { recursive: true, force: true });
    });

    async function environment(name: 'live' | 'copy'): Promise<Environment> {
      const own = join(folder, `loom--${name}`);
      await fs.mkdir(join(own, 'trees/main-0'), { recursive: true });
      await fs.symlink('trees/main-0', join(own, 'main'));
      const [scheme, host] = ADDRESS[name];
      return {
        path: `loom/${name}`,
        site: 'loom',
        name,
        kind: name === 'live' ? 'live' : 'staging',
        server: connect(folder),
        folder: own,
        place: {
          addresses: [{ name: 'main', aliases: [], scheme, host, path: '' }],
          roots: [{ name: 'main', path: join(own, 'main') }],
        },
        databases: [await kind.fresh()],
        profile: PROFILE,
        settings: new Map(),
      };
    }

    const databaseOf = ({ databases: [database] }: Environment): SiteDatabase => database as SiteDatabase;

    async function compared(
      source: Environment,
      destination: Environment,
    ): Promise<{ changes: RowChange[]; kept: string[] }> {
      const { rows, merge, facts } = await compareEnvironments({
        changes: undefined,
        source: { environment: source },
        destination,
        baseline: undefined,
        library: new SnapshotLibrary(new MemoryObjects(folder), Buffer.alloc(32)),
        memories: { source: undefined, destination: undefined },
        profileVersion: 'loom/1',
        method: 'replace',
        direction: 'up',
        mask: (_rule, value) => value,
        takes: new Set<string>(),
      });
      const wishes = { isChosen: () => true, settlements: new Map(), rest: 'destination' } as const;
      const settled = await settle(rows, merge, wishes, facts, (outcome) => String(outcome.key));
      return {
        changes: planMerge(rows, settled, merge, [], new Map()).changes.map((one) => one.change),
        kept: settled.collisions.map((one) => String(one.outcome.key)),
      };
    }

    async function apply(onto: Environment, changes: readonly RowChange[], mode: Mode): Promise<void> {
      const application = await RowApplication.open(databaseOf(onto), onto, 'transfer', mode);
      try {
        await application.stage(each(changes), rewriterOf(onto), (_table, columns) => new Set(columns));
        await application.write();
        await application.commit();
      } finally {
        await application.close();
      }
    }

    it('is copied with its own address, changed, pushed, proved and taken back; what visitors refer to stays', async () => {
      const [live, copy] = [await environment('live'), await environment('copy')];
      const [own, theirs] = [databaseOf(live), databaseOf(copy)];
      await kind.make(own, [...SITE, SALE]);
      await kind.put(own, 'page', [
        ['1', 'home', 'See https://loom.example/dye'],
        ['2', 'dye', 'Dyes'],
        ['3', 'old', 'Sold out'],
      ]);
      await kind.put(own, 'sale', [['1', '3', 'maren@loom.example']]);
      await built.buildCopy(
        {
          source: new built.LiveSource(live),
          destination: copy,
          leftOut: { tables: [], areas: [], paths: [] },
          exact: false,
          treeId: '1',
          like: live,
          traces: new built.TraceFinder(live),
          guarded: live,
          hash: (value) => createHmac('sha256', 'key').update(value, 'latin1').digest(),
          spools: undefined,
        },
        idle,
      );
      expect((await all(theirs, 'page'))[0]?.[2]).toBe('See http://loom--copy.localhost/dye');
      expect((await all(theirs, 'sale'))[0]?.[2]).not.toContain('maren');
      expect(await compared(copy, live)).toEqual({ changes: [], kept: [] });
      const before = await all(own, 'page');

      await kind.change(theirs, 'page', ['id', '2'], 'title', 'Inks of http://loom--copy.localhost/ink');
      await kind.put(theirs, 'page', [['4', 'new', 'New']]);
      await kind.put(theirs, 'note', [['1', '4', 'a', 'of the new one']]);
      await kind.remove(theirs, 'page', ['id', '3']);
      const { changes, kept } = await compared(copy, live);
      expect(kept, 'a sale refers to it').toEqual(['3']);
      expect((await misfitsOfChanges(own, changes, rewriterOf(live))).found).toEqual([]);
      await apply(live, changes, 'strict');
      expect((await all(own, 'page')).map((row) => row[2])).toEqual([
        'See https://loom.example/dye',
        'Inks of https://loom.example/ink',
        'Sold out',
        'New',
      ]);
      expect(await proveRows(live, own, each(changes))).toEqual({ asWritten: changes.length, untold: 0, unlike: [] });

      await apply(
        live,
        changes.toReversed().map((one) => invert(one) as RowChange),
        'lenient',
      );
      expect(await all(own, 'page')).toEqual(before);
      expect(await all(own, 'note')).toEqual([]);
    });
  });
}
