import type { Reach } from '../address/occurrences.js';
import type { ByteString } from '../address/place.js';
import type { Rewriter } from '../address/rewriter.js';
import { MARKER } from '../address/token.js';
import { mapHitFields, readLine, writeLine } from './copy-text.js';

/** What the profile says of one column's values, resolved for one table. */
export interface ColumnTreatment {
  readonly name: string;
  /** False for columns that are never rewritten, such as feed identities. */
  readonly rewrite: boolean;
  readonly reach: Reach;
}

/** What happened to one column's addresses, for the forecast and the record. */
export interface ColumnTally {
  rewritten: number;
  left: number;
}

/** Translates whole COPY lines of one table to and from canonical form. */
export class LineRewriter {
  readonly tallies: ColumnTally[];
  readonly #rewriter: Rewriter;
  readonly #columns: readonly ColumnTreatment[];
  readonly #search: RegExp;

  constructor(rewriter: Rewriter, columns: readonly ColumnTreatment[]) {
    this.#rewriter = rewriter;
    this.#columns = columns;
    this.#search = rewriter.finder.searchPattern();
    this.tallies = columns.map(() => ({ rewritten: 0, left: 0 }));
  }

  canonicalise(lines: ByteString): ByteString {
    return mapHitFields(lines, this.#search, (value, index) => {
      const column = this.#columns[index];
      const tally = this.tallies[index];
      if (!column || !tally) return value;
      if (!column.rewrite) return value.replaceAll(MARKER, `${MARKER}l~`);
      const result = this.#rewriter.canonicalise(value, column.reach);
      tally.rewritten += result.rewritten;
      tally.left += result.left;
      return result.value;
    });
  }

  materialise(lines: ByteString): ByteString {
    return materialiseLines(lines, this.#rewriter);
  }
}

/** Writes canonical COPY lines with a place's own addresses. */
export const materialiseLines = (lines: ByteString, rewriter: Rewriter): ByteString =>
  mapHitFields(lines, /~tsr\./g, (value) => rewriter.materialise(value));

/** Changes rows one by one; `change` may return null to drop the row. */
export function mapRows(
  lines: ByteString,
  change: (row: (ByteString | null)[]) => (ByteString | null)[] | null,
): ByteString {
  const out: ByteString[] = [];
  let start = 0;
  for (let end = lines.indexOf('\n'); end !== -1; end = lines.indexOf('\n', start)) {
    const line = lines.slice(start, end);
    const row = readLine(line);
    const changed = change(row);
    if (changed) out.push(changed === row ? line : writeLine(changed), '\n');
    start = end + 1;
  }
  return out.join('');
}
