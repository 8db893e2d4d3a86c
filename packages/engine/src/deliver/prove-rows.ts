import { type ByteString, calledIn, isSame, keyText, type RowChange, tablePath } from '@tessarion/core';
import type { Questions, SiteDatabase } from '../ports/database.js';
import { readable, type TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { rowsWhere } from '../site/rows-where.js';

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
  database: SiteDatabase,
  changes: AsyncIterable<RowChange>,
): Promise<RowProof> {
  const questions = await database.system.ask(database, 'proof');
  const proof = { asWritten: 0, untold: 0, unlike: [] as UnlikeRow[] };
  try {
    const { tables } = questions.schema;
    let batch: RowChange[] = [];
    const flush = async (): Promise<void> => {
      const shape = tables.find((one) => tablePath(one) === batch[0]?.table);
      if (shape && shape.key.length > 0) await proveBatch(questions, environment, shape, batch, proof);
      else proof.untold += batch.length;
      batch = [];
    };
    for await (const change of changes) {
      if (batch.length > 0 && (batch.length >= BATCH_ROWS || batch[0]?.table !== change.table)) await flush();
      batch.push(change);
    }
    await flush();
    return proof;
  } finally {
    await questions.close();
  }
}

async function proveBatch(
  questions: Questions,
  environment: Environment,
  shape: TableShape,
  changes: readonly RowChange[],
  proof: { asWritten: number; unlike: UnlikeRow[] },
): Promise<void> {
  const columns = readable(shape).map((column) => column.name);
  const rows = await rowsWhere(
    questions,
    environment,
    shape,
    shape.key,
    changes.map((change) => change.key),
  );
  const keyed = new Map(
    rows.map((values) => [keyText(shape.key.map((name) => values[columns.indexOf(name)] ?? null)), values]),
  );
  for (const change of changes) {
    const found = keyed.get(keyText(change.key));
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
        table: calledIn(environment.profile, shape),
        key: change.key.map((part) => Buffer.from(part ?? '', 'latin1').toString()).join(' '),
        columns: unlike.map(([name]) => name),
      });
  }
}
