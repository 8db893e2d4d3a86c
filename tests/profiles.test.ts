import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { checkProfile, rulesForTable } from '@tessarion/core';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  done,
  forecastOf,
  makeCopy,
  onSite,
  PROFILES,
  pushOnto,
  type Studio,
  saveProfile,
  settled,
  startStudio,
  tessarion,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('live');
}, 120_000);
afterAll(() => studio?.stop());

const run = (path: string, ...statements: string[]): Promise<void> =>
  onSite(studio, path, async (query) => {
    for (const sql of statements) await query(sql);
  });
const cli = async (line: string): Promise<string> => {
  const { code, out, err } = await tessarion(studio, line.split(' '));
  expect(code, err).toBe(0);
  return out;
};
const save = (name: string, text: string) => saveProfile(studio.client, name, text);

describe('a profile, step by step', { shuffle: false }, () => {
  it('starts a profile out of a running site, with which it can be copied and delivered', async () => {
    for (let i = 0; i < 6; i++)
      await visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
        product: String((i % 3) + 1),
        name: 'Aud Lindgren',
        email: `aud${i}@post.example`,
        quantity: '1',
      });
    await run(LIVE, 'INSERT INTO menu (label, target, page_id, position) SELECT title, slug, id, id FROM page');
    const file = join(studio.data, 'threadmill.yaml');
    const shown = await cli(`profile start ${LIVE} --into ${file}`);
    expect(shown).toMatch(/open +table sailing/);
    const text = await fs.readFile(file, 'utf8');
    expect(text, 'nothing that people gave is in it').not.toMatch(/Ingrid|Solheim|aud\d|Lindgren/);
    expect(await tessarion(studio, ['profile', 'start', LIVE, '--into', file])).toMatchObject({ code: 2 });

    // Beside the profile that people wrote by hand: nothing is given a class that lets it travel where that one does not.
    const [started, known] = [
      checkProfile(text),
      checkProfile(await fs.readFile(join(PROFILES, 'quayside.yaml'), 'utf8')),
    ];
    if (!started.ok || !known.ok) throw new Error('not a profile');
    const found = Object.keys(started.profile.databases?.main?.tables ?? {});
    expect(found.length).toBeGreaterThan(15);
    const classes = (of: typeof started.profile): string[] =>
      found.map(
        (table) => `${table} ${rulesForTable(of, { database: 'main', schema: 'public', name: table }, []).class}`,
      );
    const unlike = classes(started.profile).filter((one) => !classes(known.profile).includes(one));
    expect(unlike).toEqual(['option unclassified', 'sailing unclassified']);
    for (const table of ['customer', 'booking', 'review', 'signup', 'appointment']) {
      const masks = (of: typeof started.profile): unknown[] => {
        const columns = of.databases?.main?.tables[table]?.columns ?? {};
        return Object.keys(columns).filter(
          (column) => ![undefined, 'keep'].includes(columns[column]?.personal as string | undefined),
        );
      };
      expect(masks(started.profile), table).toEqual(expect.arrayContaining(masks(known.profile)));
    }
    expect(started.profile.references).toEqual(
      expect.arrayContaining([{ from: 'purchase_line.product_id', to: 'product.id' }]),
    );

    await cli(`profile save ${file}`);
    await cli('profile use threadmill --site threadmill');
    await cli('profile classify threadmill option authored --yes');
    await cli('profile classify threadmill sailing authored --yes');
    await makeCopy(studio, 'threadmill', 'staging');
    await run(
      COPY,
      "UPDATE page SET title = 'Dyes' WHERE slug = 'dye'",
      "UPDATE product SET price = 35 WHERE slug = 'apron'",
    );
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.checks.filter((check) => check.state === 'failed')).toEqual([]);
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await onSite(studio, LIVE, (query) => query('SELECT count(*)::int AS n FROM purchase'))).toEqual([{ n: 7 }]);
    expect(await onSite(studio, COPY, (query) => query("SELECT email FROM customer WHERE email !~ '@masked'"))).toEqual(
      [],
    );
  }, 120_000);

  it('composes a profile of a base, parts and lines of one’s own, and says which part each rule comes from', async () => {
    await save(
      'gift-cards',
      `tessarion: part/1
name: gift-cards
title: What the gift cards bring along
databases: { main: { tables: { "gift_*": { class: collected }, gift_design: { class: authored } } } }
`,
    );
    await save(
      'threadmill',
      `tessarion: profile/1
name: threadmill
title: Threadmill's own lines
base: quayside
parts: [gift-cards]
databases: { main: { tables: { notice: { class: local } } } }
`,
    );
    const listed = await studio.client.call('profileList');
    expect(listed.find((one) => one.name === 'gift-cards')).toMatchObject({ kind: 'part', sites: ['threadmill'] });
    expect(listed.find((one) => one.name === 'threadmill')).toMatchObject({ base: 'quayside', parts: ['gift-cards'] });
    const shown = await cli('profile show threadmill --effective');
    expect(shown).toContain('# composed of quayside 1, gift-cards 1, threadmill 4');
    expect(shown).toMatch(/# quayside 1, threadmill 4\n\s+notice:/);
    expect(shown).toMatch(/# gift-cards 1\n\s+gift_design:/);
    const { rules } = await studio.client.call('profileEffective', { params: { name: 'threadmill' } });
    expect(rules).toContainEqual({ path: 'databases.main.tables.gift_*', from: ['gift-cards'] });

    const refused = async (name: string, text: string): Promise<string> =>
      save(name, text).then(
        () => 'saved',
        (error: Error) => error.message,
      );
    const quayside = await fs.readFile(join(PROFILES, 'quayside.yaml'), 'utf8');
    expect(
      await refused(
        'quayside',
        quayside.replaceAll('{ from: menu.page_id, to: page.id }', '{ from: menu.page_id, to: gone.id }'),
      ),
    ).toContain('gone');
    const part = (base: string): string => `tessarion: profile/1\nname: other\ntitle: x\nbase: ${base}\n`;
    expect(await refused('other', part('gift-cards'))).toContain('is a part, and other names it as its base');
    expect(await refused('other', part('threadmill'))).toContain('stands on quayside itself');
    expect(await refused('other', part('nowhere'))).toContain('there is no such profile');
    // What is right by itself may not go together with what stands on it.
    expect(
      await refused(
        'gift-cards',
        'tessarion: part/1\nname: gift-cards\ntitle: x\nreferences: [{ from: gift_card.product_id, to: parcel.id }]\n',
      ),
    ).toContain('threadmill would not be right any more');
    expect((await studio.client.call('siteShow', { params: { site: 'threadmill' } })).profileVersion).toBe(4);
  });

  it('classifies a table from the forecast, names the sites that it reaches, and asks again where it is grave', async () => {
    for (const path of [LIVE, COPY])
      await run(
        path,
        'CREATE TABLE coupon (id serial PRIMARY KEY, code text NOT NULL)',
        `GRANT ALL ON coupon TO PUBLIC`,
        'GRANT ALL ON coupon_id_seq TO PUBLIC',
      );
    await run(COPY, "INSERT INTO coupon (code) VALUES ('autumn')");
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.unclassified).toEqual([{ database: 'main', table: 'coupon', rows: 1 }]);
    expect(forecast.checks.find((check) => check.state === 'failed')?.remedy).toContain(
      'profile classify threadmill coupon',
    );
    const body = { table: 'coupon', class: 'authored' } as const;
    const trial = await studio.client.call('profileClassify', {
      params: { site: 'threadmill' },
      body: { ...body, trial: true },
    });
    expect(trial).toMatchObject({
      profile: 'threadmill',
      version: 5,
      sites: ['threadmill'],
      before: 'unclassified',
      isSaved: false,
    });
    expect((await settled(studio, forecast.id, {})).unclassified, 'a trial changes nothing').toHaveLength(1);
    expect(await cli('profile classify threadmill coupon authored --yes')).toContain('Saved threadmill version 5');
    const again = await settled(studio, forecast.id, {});
    expect(again.unclassified).toEqual([]);
    expect(again.checks.filter((check) => check.state === 'failed')).toEqual([]);
    const grave = await tessarion(studio, ['profile', 'classify', 'threadmill', 'purchase', 'authored', '--yes']);
    expect([grave.code, grave.err]).toEqual([3, expect.stringContaining('--confirm purchase')]);
    const unconfirmed = await studio.client
      .call('profileClassify', { params: { site: 'threadmill' }, body: { table: 'purchase', class: 'authored' } })
      .catch((error: Error) => error.message);
    expect(unconfirmed).toContain('would be written onto live');
    expect((await tessarion(studio, ['profile', 'classify', 'threadmill', 'x', 'mine'])).code).toBe(2);
    const unknown = await tessarion(studio, ['profile', 'classify', 'threadmill', 'cupon', 'authored', '--yes']);
    expect([unknown.code, unknown.err]).toEqual([2, expect.stringContaining('Did you mean coupon?')]);
  });
});
