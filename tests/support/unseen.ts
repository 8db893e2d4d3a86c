import type { Query } from './studio.js';

/** A stream of numbers that is always the same for one seed. */
export class Dice {
  #state: number;

  constructor(seed: number) {
    this.#state = seed >>> 0;
  }

  /** @returns a whole number from 0 to below `sides` */
  roll(sides: number): number {
    this.#state = (this.#state + 0x6d2b79f5) >>> 0;
    let t = Math.imul(this.#state ^ (this.#state >>> 15), this.#state | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return Math.floor((((t ^ (t >>> 14)) >>> 0) / 2 ** 32) * sides);
  }

  pick<T>(from: readonly T[]): T {
    return from[this.roll(from.length)] as T;
  }
}

export interface ColumnFacts {
  readonly name: string;
  readonly type: string;
  readonly isRequired: boolean;
  readonly hasDefault: boolean;
  readonly maxLength: number | null;
  readonly labels: readonly string[] | null;
  readonly isComputed: boolean;
}

export interface TableFacts {
  /** Quoted. */
  readonly name: string;
  readonly columns: readonly ColumnFacts[];
  readonly key: readonly string[];
  readonly references: readonly {
    readonly columns: readonly string[];
    readonly table: string;
    readonly to: readonly string[];
  }[];
}

/** What a database is made of, from its own catalogue. */
export async function describe(query: Query): Promise<TableFacts[]> {
  const tables = await query(`
    SELECT format('%I.%I', n.nspname, c.relname) AS name, c.oid::int AS oid,
      (SELECT coalesce(json_agg(json_build_object('name', a.attname, 'type', format_type(coalesce(nullif(t.typbasetype, 0), a.atttypid), NULL),
          'isRequired', a.attnotnull, 'hasDefault', a.atthasdef OR a.attidentity <> '',
          'maxLength', CASE WHEN a.atttypmod > 4 AND t.typcategory = 'S' THEN a.atttypmod - 4 END,
          'labels', (SELECT json_agg(enumlabel ORDER BY enumsortorder) FROM pg_enum e WHERE e.enumtypid = a.atttypid),
          'isComputed', a.attgenerated <> '' OR a.attidentity = 'a') ORDER BY a.attnum), '[]')
        FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped) AS columns,
      (SELECT coalesce(json_agg(a.attname ORDER BY array_position(i.indkey::int[], a.attnum::int)), '[]') FROM pg_index i JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (i.indkey)
        WHERE i.indrelid = c.oid AND i.indisprimary) AS key,
      (SELECT coalesce(json_agg(json_build_object('table', r.confrelid::regclass::text,
          'columns', (SELECT json_agg(attname ORDER BY k.n) FROM unnest(r.conkey) WITH ORDINALITY k(at, n) JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.at),
          'to', (SELECT json_agg(attname ORDER BY k.n) FROM unnest(r.confkey) WITH ORDINALITY k(at, n) JOIN pg_attribute a ON a.attrelid = r.confrelid AND a.attnum = k.at))), '[]')
        FROM pg_constraint r WHERE r.conrelid = c.oid AND r.contype = 'f') AS references
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.relkind = 'r' AND n.nspname NOT IN ('pg_catalog', 'information_schema') ORDER BY c.oid`);
  return tables as unknown as TableFacts[];
}

const quote = (name: string): string => `"${name.replaceAll('"', '""')}"`;

/** Values that are awkward to carry, by type; undefined for types that nobody thought of. */
function hardValue(dice: Dice, column: ColumnFacts, address: string): string | undefined {
  const { type, maxLength, labels } = column;
  const n = dice.roll(1_000_000);
  if (labels) return dice.pick(labels);
  const link = `${address}/p/${n}`;
  const texts = [
    `plain ${n}`,
    `<a href="${link}">ü — “x”</a> ${n}`,
    `a:2:{s:3:"url";s:${link.length}:"${link}";s:1:"n";i:${n};}`,
    `{"url":"${link.replaceAll('/', '\\/')}","n":[1,null,"\\u00e9"],"deep":{"again":"${link}"}}`,
    `tab\there, back\\slash, \\N, \\., line\nbreak\r\n, quote ' " ${n}`,
    `${'long '.repeat(400)}${link}`,
    `🧵 ${n} ~tsr.a.main~ %s $1 &amp;`,
    ` ${n} `,
  ];
  switch (type) {
    case 'text':
    case 'character varying':
    case 'character':
    case 'citext': {
      const text = dice.pick(texts);
      // An address of another environment may be longer; what does not fit there is another test's matter.
      const room = text.includes(address) ? 2 * address.length : 0;
      if (maxLength === null || [...text].length + room <= maxLength) return text;
      return maxLength < 8 ? String(n).slice(0, maxLength) : `${dice.pick(['ü', "'", '\\'])}${n}`.slice(0, maxLength);
    }
    case 'smallint':
      return String(n % 30_000);
    case 'integer':
      return String(n);
    case 'bigint':
      return dice.pick([String(n), `9223372036854${String(n).padStart(6, '0')}`.slice(0, 18)]);
    case 'numeric':
      return dice.pick([`${n % 100}.50`, `-${n % 9}.05`, '0']);
    case 'double precision':
      return dice.pick(['0.1', '1e300', '-0', `${n}.25`, '2.2250738585072014e-308', 'NaN']);
    case 'real':
      return dice.pick(['0.1', '3.4e38', `${n % 1000}.5`]);
    case 'boolean':
      return dice.pick(['t', 'f']);
    case 'timestamp with time zone':
      return dice.pick([
        '2026-03-29 02:30:00.123456+02',
        'infinity',
        '0044-03-15 12:00:00+00 BC',
        '2026-10-25 02:59:59-01',
      ]);
    case 'timestamp without time zone':
      return dice.pick(['2026-02-28 23:59:59.999999', '-infinity', '1901-12-13 20:45:52']);
    case 'date':
      return dice.pick(['2028-02-29', 'infinity', '2026-01-01']);
    case 'interval':
      return dice.pick(['1 mon -3 days 04:05:06.7', '-1 year', '00:00:00']);
    case 'json':
      return dice.pick([`{"b": 1, "a": "${link}", "a": 2}`, '[ 1,2 ]', 'null']);
    case 'jsonb':
      return dice.pick([`{"a": "${link}", "n": 1e400, "u": "\\u00e9"}`, '[]', '"x"']);
    case 'bytea':
      return dice.pick(['\\x', '\\x00ff5c275c', `\\x${Buffer.from(link).toString('hex')}`]);
    case 'uuid':
      return `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
    case 'inet':
      return dice.pick(['192.0.2.1/24', '2001:db8::1', '198.51.100.7']);
    case 'text[]':
      return dice.pick([`{"${link}","with,comma",NULL,"","\\"quoted\\""}`, '{}', '{{a,b},{c,d}}']);
    case 'integer[]':
      return dice.pick(['{1,NULL,3}', '{}', '[0:1]={5,6}']);
    case 'tstzrange':
      return dice.pick(['empty', '[2026-01-01 00:00:00+00,)', `(,2026-06-${10 + (n % 20)} 00:00:00+00]`]);
    case 'money':
      return `${n % 1000}.25`;
    case 'bit varying':
      return dice.pick(['', '10110', '1']);
    default:
      return undefined;
  }
}

/** Tries statements one by one; what the database refuses did not happen. @returns how many it took */
async function attempt(query: Query, statements: Iterable<readonly [string, unknown[]]>): Promise<number> {
  let taken = 0;
  await query('BEGIN');
  for (const [sql, values] of statements) {
    await query('SAVEPOINT attempt');
    try {
      await query(sql, values);
      await query('SET CONSTRAINTS ALL IMMEDIATE');
      taken++;
    } catch {
      await query('ROLLBACK TO SAVEPOINT attempt');
    }
  }
  await query('COMMIT');
  return taken;
}

/** Some rows of a table, as text by column, always the same ones for one die. */
async function someRows(query: Query, { name, key }: TableFacts, dice: Dice, count: number) {
  const order = key.map((one) => `${quote(one)}::text`).join(", '|', ");
  return (await query(
    `SELECT to_jsonb(t) AS row FROM ${name} t ORDER BY md5(concat(${order === '' ? 't::text' : order}, '${dice.roll(1000)}')) LIMIT ${count}`,
  )) as { row: Record<string, unknown> }[];
}

const isReference = ({ references, key }: TableFacts, column: string): boolean =>
  key.includes(column) || references.some((one) => one.columns.includes(column));

async function newRow(
  query: Query,
  table: TableFacts,
  dice: Dice,
  address: string,
): Promise<[string, unknown[]] | undefined> {
  const values = new Map<string, unknown>();
  for (const column of table.columns) {
    if (column.isComputed || (column.hasDefault && (isReference(table, column.name) || dice.roll(2) === 0))) continue;
    if (!column.isRequired && dice.roll(4) === 0) continue;
    const value = hardValue(dice, column, address);
    if (value === undefined && column.isRequired) return undefined;
    if (value !== undefined) values.set(column.name, value);
  }
  for (const { columns, table: other, to } of table.references) {
    const [row] = await query(
      `SELECT ${to.map(quote).join(', ')} FROM ${other} ORDER BY md5(concat(${to.map((one) => `${quote(one)}::text`).join(', ')}, '${dice.roll(1000)}')) LIMIT 1`,
    );
    for (const [i, name] of columns.entries()) {
      if (row) values.set(name, row[to[i] as string]);
      else values.delete(name);
    }
  }
  const names = [...values.keys()];
  if (names.length === 0) return [`INSERT INTO ${table.name} DEFAULT VALUES`, []];
  return [
    `INSERT INTO ${table.name} (${names.map(quote).join(', ')}) VALUES (${names.map((_one, i) => `$${i + 1}`).join(', ')})`,
    [...values.values()],
  ];
}

/** Puts rows of awkward values into every table that takes them. */
export async function fill(
  query: Query,
  tables: readonly TableFacts[],
  dice: Dice,
  address: string,
  rows: number,
): Promise<number> {
  let taken = 0;
  for (let round = 0; round < 2; round++)
    for (const table of tables)
      for (let i = 0; i < rows; i++) {
        const one = await newRow(query, table, dice, address);
        if (one) taken += await attempt(query, [one]);
      }
  return taken;
}

/** Changes, adds and removes rows here and there, as people do. @returns how many statements the database took */
export async function editAround(
  query: Query,
  tables: readonly TableFacts[],
  dice: Dice,
  address: string,
): Promise<number> {
  let taken = 0;
  for (const table of tables) {
    if (table.key.length === 0) continue;
    const at = (row: Record<string, unknown>): [string, unknown[]] => [
      table.key.map((name, i) => `${quote(name)}::text = $${i + 1}`).join(' AND '),
      table.key.map((name) => String(row[name])),
    ];
    const free = table.columns.filter((one) => !one.isComputed && !isReference(table, one.name));
    for (const { row } of await someRows(query, table, dice, 2)) {
      if (free.length === 0) break;
      const column = dice.pick(free);
      const value = hardValue(dice, column, address);
      const [where, key] = at(row);
      if (value !== undefined)
        taken += await attempt(query, [
          [`UPDATE ${table.name} SET ${quote(column.name)} = $${key.length + 1} WHERE ${where}`, [...key, value]],
        ]);
    }
    if (dice.roll(3) === 0) {
      const one = await newRow(query, table, dice, address);
      if (one) taken += await attempt(query, [one]);
    }
    if (dice.roll(4) === 0)
      for (const { row } of await someRows(query, table, dice, 1)) {
        const [where, key] = at(row);
        taken += await attempt(query, [[`DELETE FROM ${table.name} WHERE ${where}`, key]]);
      }
  }
  return taken;
}

/** Every row of every table, by table and key (the whole row where there is none), with its cells as the server writes them. */
export async function everyRow(
  query: Query,
  tables: readonly TableFacts[],
): Promise<Map<string, Record<string, string | null>>> {
  const found = new Map<string, Record<string, string | null>>();
  for (const { name, columns, key } of tables) {
    const rows = await query(
      `SELECT ${columns.map((one, i) => `${quote(one.name)}::text AS c${i}`).join(', ') || 'NULL AS none'} FROM ${name} ORDER BY 1`,
    );
    for (const row of rows) {
      const cells = Object.fromEntries(columns.map((one, i) => [one.name, row[`c${i}`] as string | null]));
      const named = key.length > 0 ? key.map((one) => cells[one]) : Object.values(cells);
      let at = `${name} ${JSON.stringify(named)}`;
      for (let copy = 2; found.has(at); copy++) at = `${name} ${JSON.stringify(named)} ${copy}`;
      found.set(at, cells);
    }
  }
  return found;
}
