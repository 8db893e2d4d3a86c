import type { ExportForm } from '@tessarion/contract';
import { stringify } from 'csv-stringify/sync';
import type { FastifyReply } from 'fastify';

/** One page of a list, and where the next one begins. */
export interface Page<T> {
  readonly items: readonly T[];
  readonly next: string | null;
}

const TYPES: Record<ExportForm, string> = {
  jsonl: 'application/jsonl; charset=utf-8',
  csv: 'text/csv; charset=utf-8; header=present',
};

/**
 * Writes a list out page by page, so that it may be of any length, as a file that a browser keeps.
 *
 * @param columns of CSV, by their heads; what a spreadsheet would take for a formula is kept text
 */
export function writeOut<T>(
  reply: FastifyReply,
  name: string,
  form: ExportForm,
  columns: Readonly<Record<string, (one: T) => unknown>>,
  pageAfter: (cursor: string | undefined) => Promise<Page<T>>,
): AsyncIterable<string> {
  reply.type(TYPES[form]).header('content-disposition', `attachment; filename="${name}.${form}"`);
  const line = (cells: unknown[]): string =>
    stringify([cells], { escape_formulas: true, record_delimiter: 'windows', quoted_match: /[\r\n]/ });
  return (async function* () {
    if (form === 'csv') yield line(Object.keys(columns));
    for (let cursor: string | undefined; ; ) {
      const { items, next } = await pageAfter(cursor);
      yield items
        .map((one) =>
          form === 'csv' ? line(Object.values(columns).map((cell) => cell(one))) : `${JSON.stringify(one)}\n`,
        )
        .join('');
      if (next === null) return;
      cursor = next;
    }
  })();
}
