import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { connectTo } from '../src/postgres/connect.js';
import { describeSchema } from '../src/postgres/describe.js';
import { Yard } from './support/pair.js';

let yard: Yard;
let site: pg.Client;
let reader: pg.Client;

beforeAll(async () => {
  yard = await Yard.open();
  const login = { ...yard.server, database: 'postgres' };
  site = new pg.Client(login);
  await site.connect();
  await site.query(`CREATE TABLE maker (id serial PRIMARY KEY, name varchar(20) NOT NULL);
    CREATE TABLE thing (id serial PRIMARY KEY, maker_id int, code varchar(10), price numeric NOT NULL DEFAULT 0);
    CREATE SEQUENCE tally;
    CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN new; END'`);
  reader = await connectTo(login, 'read', 'describe');
});
afterAll(async () => {
  await site?.end();
  await reader?.end();
  await yard?.close();
});

/** One after the other. */
const CHANGES = [
  'ALTER TABLE thing ADD COLUMN note text',
  'ALTER TABLE thing RENAME COLUMN note TO remark',
  'ALTER TABLE thing DROP COLUMN remark',
  'ALTER TABLE thing ALTER COLUMN code TYPE varchar(30)',
  'ALTER TABLE thing ALTER COLUMN code TYPE text',
  'ALTER TABLE thing ADD COLUMN twice numeric GENERATED ALWAYS AS (price * 2) STORED',
  'ALTER TABLE thing ADD CONSTRAINT code_is_unique UNIQUE (code)',
  'ALTER TABLE thing ALTER COLUMN code SET NOT NULL',
  'ALTER TABLE thing DROP CONSTRAINT code_is_unique',
  'ALTER TABLE thing ADD CONSTRAINT has_price CHECK (price >= 0)',
  'ALTER TABLE thing RENAME CONSTRAINT has_price TO costs_something',
  'ALTER TABLE thing DROP CONSTRAINT costs_something',
  'ALTER TABLE thing ADD CONSTRAINT of_maker FOREIGN KEY (maker_id) REFERENCES maker',
  'ALTER TABLE thing DROP CONSTRAINT of_maker',
  'CREATE TRIGGER watch BEFORE UPDATE ON thing FOR EACH ROW EXECUTE FUNCTION nothing()',
  'ALTER TRIGGER watch ON thing RENAME TO look',
  'DROP TRIGGER look ON thing',
  'CREATE INDEX by_price ON thing (price)',
  'ALTER INDEX by_price RENAME TO by_cost',
  'DROP INDEX by_cost',
  'ALTER SEQUENCE tally OWNED BY maker.id',
  'ALTER SEQUENCE tally OWNED BY NONE',
  'DROP SEQUENCE tally',
  'CREATE TABLE other (a int)',
  'ALTER TABLE other ADD PRIMARY KEY (a)',
  'ALTER TABLE other RENAME TO another',
  'CREATE SCHEMA office; ALTER TABLE another SET SCHEMA office',
  'ALTER SCHEMA office RENAME TO workshop',
  'DROP TABLE workshop.another',
  'CREATE EXTENSION citext SCHEMA workshop',
  'CREATE DOMAIN handle AS varchar(8); ALTER TABLE maker ADD COLUMN handle handle',
  'ALTER DOMAIN handle RENAME TO nickname',
];

describe('a description', () => {
  it('is made anew after each change of how tables are made', async () => {
    for (const sql of CHANGES) {
      const before = await describeSchema(reader, 'main');
      await site.query(sql);
      expect(await describeSchema(reader, 'main'), sql).not.toEqual(before);
    }
  });

  it('tells two changes in one transaction apart', async () => {
    await site.query('BEGIN; ALTER TABLE maker ADD COLUMN one int');
    const within = await describeSchema(site, 'main');
    await site.query('ALTER TABLE maker RENAME COLUMN one TO two');
    const columns = (await describeSchema(site, 'main')).tables.find((table) => table.name === 'maker')?.columns;
    await site.query('ROLLBACK');
    expect(within.tables.find((table) => table.name === 'maker')?.columns.map((one) => one.name)).toContain('one');
    expect(columns?.map((one) => one.name)).toContain('two');
    const after = await describeSchema(reader, 'main');
    expect(after.tables.find((table) => table.name === 'maker')?.columns.map((one) => one.name)).not.toContain('two');
  });

  it('stands as long as only rows change, and what counters stand at is read each time', async () => {
    const before = await describeSchema(reader, 'main');
    await site.query("INSERT INTO maker (name) SELECT 'somebody' FROM generate_series(1, 1000)");
    await site.query('ANALYZE');
    await site.query('VACUUM');
    await site.query('CREATE TEMP TABLE passing (a int); DROP TABLE passing');
    const after = await describeSchema(reader, 'main');
    expect(after.tables, 'the same one').toBe(before.tables);
    const counter = after.sequences.find((one) => one.ownedBy?.table.name === 'maker');
    expect(counter).toMatchObject({ last: '1000', called: true });
  });

  it('is refused for large objects and foreign tables, whatever was described before', async () => {
    await site.query('SELECT lo_create(4711)');
    await expect(describeSchema(reader, 'main')).rejects.toThrow(/large objects/);
    await site.query('SELECT lo_unlink(4711)');
    await site.query(
      'CREATE EXTENSION postgres_fdw; CREATE SERVER far FOREIGN DATA WRAPPER postgres_fdw; CREATE FOREIGN TABLE away (a int) SERVER far',
    );
    await expect(describeSchema(reader, 'main')).rejects.toThrow(/"away" is a foreign table/);
    await site.query('DROP FOREIGN TABLE away');
    await describeSchema(reader, 'main');
  });
});
