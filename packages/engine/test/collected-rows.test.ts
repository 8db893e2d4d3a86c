import { afterAll, beforeAll, expect, it } from 'vitest';
import { collectedRows, proveCollected } from '../src/index.js';
import { profileOf, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: { page: { class: authored }, sale: { class: collected }, hit: { class: collected } } } }`);

let yard: Yard;
beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());

it('tells whether each row that visitors made is still there, whatever came meanwhile', async () => {
  const { environment, query } = await yard.environment('live', 'https://loom.example', PROFILE, {
    kind: 'live',
    sql: `CREATE TABLE page (id serial PRIMARY KEY, title text);
      CREATE TABLE sale (id serial PRIMARY KEY, amount int);
      CREATE TABLE hit (at text PRIMARY KEY);
      INSERT INTO sale (amount) SELECT n FROM generate_series(1, 500) n;
      INSERT INTO hit SELECT 'h' || n FROM generate_series(1, 5) n;
      INSERT INTO page (title) VALUES ('x')`,
  });
  const before = await collectedRows(environment);
  expect(before.map((one) => [one.table, one.rows, one.keys !== null])).toEqual([
    ['hit', 5, false],
    ['sale', 500, true],
  ]);
  const holds = async () => (await proveCollected(environment, before)).map((one) => [one.table, one.now, one.holds]);
  expect(await holds()).toEqual([
    ['hit', 5, 'count'],
    ['sale', 500, 'each'],
  ]);
  await query(
    "INSERT INTO sale (amount) VALUES (1), (2); UPDATE sale SET amount = 9 WHERE id = 7; INSERT INTO hit VALUES ('new')",
  );
  expect(await holds()).toEqual([
    ['hit', 6, 'count'],
    ['sale', 502, 'each'],
  ]);
  // As many rows as before, and one of them another one.
  await query('DELETE FROM sale WHERE id IN (250, 501)');
  expect(await holds()).toEqual([
    ['hit', 6, 'count'],
    ['sale', 500, 'fewer'],
  ]);
  await query("INSERT INTO sale (id, amount) VALUES (250, 250); DELETE FROM hit WHERE at <> 'new'; DROP TABLE sale");
  expect(await holds()).toEqual([
    ['hit', 1, 'fewer'],
    ['sale', 0, 'fewer'],
  ]);
});
