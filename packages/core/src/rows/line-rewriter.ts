import type { Reach } from '../address/occurrences.js';
import type { ByteString } from '../address/place.js';
import type { Rewriter } from '../address/rewriter.js';
import { mayHaveStructure } from '../address/structure.js';
import { MARKER, VERBATIM, writeToken } from '../address/token.js';
import { readField, readLine, writeField, writeLine } from './copy-text.js';

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
  readonly #withRoots: boolean;
  /** Set where every column is rewritten, and no bare hosts or paths are looked for. */
  readonly #reachOfAll: Reach | undefined;

  constructor(rewriter: Rewriter, columns: readonly ColumnTreatment[]) {
    this.#rewriter = rewriter;
    this.#columns = columns;
    this.#withRoots = columns.some((column) => column.reach.rootPaths);
    const isPlain = (one: ColumnTreatment): boolean => one.rewrite && !one.reach.bareHosts && !one.reach.rootPaths;
    this.#reachOfAll = columns.every(isPlain) ? columns[0]?.reach : undefined;
    this.tallies = columns.map(() => ({ rewritten: 0, left: 0 }));
  }

  /** The cost is that of the search, plus that of the fields in which it hits. */
  canonicalise(lines: ByteString): ByteString {
    const scanner = this.#rewriter.finder.scan(lines, this.#withRoots);
    const out: ByteString[] = [];
    let copied = 0;
    for (let hit = scanner.next(0); hit; ) {
      const field = fieldAt(lines, hit.index);
      if (this.#reachOfAll && isFlat(lines, field)) {
        // Neither inner structure nor escaped slashes: what is found is replaced where it stands.
        let free = field.start;
        while (hit && hit.index < field.end) {
          const found = this.#rewriter.finder.examine(lines, hit.index, hit.text, this.#reachOfAll, free);
          if (found) {
            out.push(lines.slice(copied, found.start), writeToken(found.token));
            copied = free = found.end;
            if (found.token.kind !== 'literal') (this.tallies[columnAt(lines, field.start)] as ColumnTally).rewritten++;
          }
          hit = scanner.next(found ? found.end : hit.index + 1);
        }
        continue;
      }
      const value = readField(lines.slice(field.start, field.end));
      const changed = value === null ? null : this.#canonicaliseValue(value, columnAt(lines, field.start));
      if (changed !== value) {
        out.push(lines.slice(copied, field.start), writeField(changed));
        copied = field.end;
      }
      hit = scanner.next(field.end);
    }
    if (copied === 0) return lines;
    out.push(lines.slice(copied));
    return out.join('');
  }

  #canonicaliseValue(value: ByteString, index: number): ByteString {
    const column = this.#columns[index];
    const tally = this.tallies[index];
    if (!column || !tally) return value;
    if (!column.rewrite) return value.replaceAll(MARKER, `${MARKER}l~`);
    const result = this.#rewriter.canonicalise(value, column.reach);
    tally.rewritten += result.rewritten;
    tally.left += result.left;
    return result.value;
  }
}

interface FieldSpan {
  readonly start: number;
  readonly end: number;
}

/** The field around a position: from the tab or newline before it to the next one. */
function fieldAt(lines: ByteString, at: number): FieldSpan {
  let start = at;
  while (start > 0 && !isDelimiter(lines.charCodeAt(start - 1))) start--;
  let end = at;
  while (end < lines.length && !isDelimiter(lines.charCodeAt(end))) end++;
  return { start, end };
}

const isDelimiter = (code: number): boolean => code === 9 || code === 10;

/** Position of the column that begins at `start`. */
function columnAt(lines: ByteString, start: number): number {
  let column = 0;
  for (let at = start - 1; at >= 0 && lines.charCodeAt(at) !== 10; at--) if (lines.charCodeAt(at) === 9) column++;
  return column;
}

/** True where raw bytes and value agree as far as addresses go: no inner structure, no escaped slash. */
function isFlat(lines: ByteString, { start, end }: FieldSpan): boolean {
  const first = lines.charCodeAt(start);
  if (first === BACKSLASH || first <= SPACE || first === QUOTE || first === BRACKET || first === BRACE) return false;
  if (lines.charCodeAt(start + 1) === COLON && mayHaveStructure(lines.slice(start, Math.min(end, start + 24))))
    return false;
  for (let at = start; at < end; at++) {
    if (lines.charCodeAt(at) === BACKSLASH && lines.charCodeAt(at + 1) === SLASH) return false;
  }
  return true;
}

const [SPACE, QUOTE, SLASH, COLON, BRACKET, BACKSLASH, BRACE] = [32, 34, 47, 58, 91, 92, 123];

/** Writes canonical COPY lines with a place's own addresses. */
export function materialiseLines(lines: ByteString, rewriter: Rewriter): ByteString {
  let hit = lines.indexOf(MARKER);
  if (hit === -1) return lines;
  const out: ByteString[] = [];
  let copied = 0;
  while (hit !== -1) {
    const token = lines.slice(hit, lines.indexOf('~', hit + 1) + 1);
    const field = fieldAt(lines, hit);
    if (token !== VERBATIM && isFlat(lines, field)) {
      out.push(lines.slice(copied, hit), writeField(rewriter.writeTokenText(token)));
      copied = hit + token.length;
    } else {
      const value = readField(lines.slice(field.start, field.end)) as ByteString;
      out.push(lines.slice(copied, field.start), writeField(rewriter.materialise(value)));
      copied = field.end;
    }
    hit = lines.indexOf(MARKER, copied);
  }
  out.push(lines.slice(copied));
  return out.join('');
}

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
