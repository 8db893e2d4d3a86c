import {
  type ByteString,
  isSame,
  LineRewriter,
  materialiseLines,
  type RowChange,
  readLine,
  rulesForTable,
  writeLine,
} from '@tessarion/core';
import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import { connectTo, databaseError } from '../database/connect.js';
import { describeSchema, quoteName, quoteTable } from '../database/describe.js';
import { readable } from '../database/postgres-view.js';
import { type DatabaseLogin, fullName, profileName, type TableShape } from '../database/site-database.js';
import type { Environment } from '../environment/environment.js';
import { rewriterOf } from './copy-files.js';

/** A row that is not as it was written. */
export interface UnlikeRow {
  readonly table: string;
  readonly key: string;
  /** Columns with another value; none where the row is gone, or there although it was deleted. */
  readonly columns: readonly string[];
}

/** What was found of the rows that a transfer wrote, reading them once more. */
export interface RowProof {
  readonly asWritten: number;
  /** Rows of tables without a key, which cannot be told from others like them. */
  readonly untold: number;
  readonly unlike: readonly UnlikeRow[];
}

const BATCH_ROWS = 2000;
const MOST_NAMED = 100;

/** Reads rows again that were written to a database, and compares them with what was meant. */
export async function proveRows(
  environment: Environment,
  database: string,
  login: DatabaseLogin,
  changes: AsyncIterable<RowChange>,
): Promise<RowProof> {
  const client = await connectTo(login, 'read', 'proof');
  const proof = { asWritten: 0, untold: 0, unlike: [] as UnlikeRow[] };
  try {
    const { tables } = await describeSchema(client);
    let batch: RowChange[] = [];
    const flush = async (): Promise<void> => {
      const shape = tables.find((one) => fullName(one) === batch[0]?.table);
      if (shape && shape.key.length > 0) await proveBatch(client, environment, database, shape, batch, proof);
      else proof.untold += batch.length;
      batch = [];
    };
    for await (const change of changes) {
      if (batch.length > 0 && (batch.length >= BATCH_ROWS || batch[0]?.table !== change.table)) await flush();
      batch.push(change);
    }
    await flush();
    return proof;
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await client.end().catch(() => undefined);
  }
}

async function proveBatch(
  client: pg.Client,
  environment: Environment,
  database: string,
  shape: TableShape,
  changes: readonly RowChange[],
  proof: { asWritten: number; unlike: UnlikeRow[] },
): Promise<void> {
  const columns = readable(shape).map((column) => column.name);
  const rows = await rowsByKey(client, environment, database, shape, columns, changes);
  for (const change of changes) {
    const found = rows.get(JSON.stringify(change.key));
    const meant: readonly (readonly [string, ByteString | null])[] =
      change.op === 'insert'
        ? Object.entries(change.row)
        : change.op === 'update'
          ? Object.entries(change.cells).map(([name, cell]) => [name, cell.after] as const)
          : [];
    const isThere = change.op !== 'delete';
    const unlike = found ? meant.filter(([name, value]) => !isSame(found[columns.indexOf(name)], value)) : [];
    if (isThere === (found !== undefined) && unlike.length === 0) proof.asWritten++;
    else if (proof.unlike.length < MOST_NAMED)
      proof.unlike.push({
        table: profileName(shape),
        key: change.key.map((part) => Buffer.from(part ?? '', 'latin1').toString()).join(' '),
        columns: unlike.map(([name]) => name),
      });
  }
}

/** The rows of some keys in canonical form, by key. */
async function rowsByKey(
  client: pg.Client,
  environment: Environment,
  database: string,
  shape: TableShape,
  columns: readonly string[],
  changes: readonly RowChange[],
): Promise<Map<string, readonly (ByteString | null)[]>> {
  const rewriter = rewriterOf(environment);
  const written = materialiseLines(changes.map((change) => `${writeLine(change.key)}\n`).join(''), rewriter);
  const keys = written.slice(0, -1).split('\n').map(readLine);
  const arrays = shape.key.map((name, i) => {
    const type = shape.columns.find((column) => column.name === name)?.type as string;
    return `ARRAY[${keys.map((key) => quoteLiteral(Buffer.from(key[i] ?? '', 'latin1').toString())).join(',')}]::text[]::${type}[]`;
  });
  const wanted = shape.key.map((_name, i) => `k${i}`).join(', ');
  const match = shape.key.map((name, i) => `t.${quoteName(name)} = w.k${i}`).join(' AND ');
  const stream = client.query(
    copyTo(
      `COPY (SELECT ${columns.map((name) => `t.${quoteName(name)}`).join(', ')} FROM ONLY ${quoteTable(shape)} t
        JOIN unnest(${arrays.join(', ')}) AS w(${wanted}) ON ${match}) TO STDOUT`,
    ),
  );
  let content = '';
  for await (const chunk of stream as AsyncIterable<Buffer>) content += chunk.toString('latin1');
  const rules = rulesForTable(environment.profile, database, profileName(shape), columns);
  const canonical = new LineRewriter(rewriter, rules.columns).canonicalise(content);
  const found = new Map<string, readonly (ByteString | null)[]>();
  for (const line of canonical === '' ? [] : canonical.slice(0, -1).split('\n')) {
    const values = readLine(line);
    found.set(JSON.stringify(shape.key.map((name) => values[columns.indexOf(name)] ?? null)), values);
  }
  return found;
}

const quoteLiteral = (text: string): string => `'${text.replaceAll("'", "''")}'`;
