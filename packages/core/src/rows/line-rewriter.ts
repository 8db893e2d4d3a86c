import type { Reach } from '../address/occurrences.js';
import type { ByteString } from '../address/place.js';
import type { Rewriter } from '../address/rewriter.js';
import { mayHaveStructure } from '../address/structure.js';
import { MARKER, VERBATIM } from '../address/token.js';
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
    return this.#translate(lines, undefined);
  }

  /** The same as {@link materialiseLines} of the canonical lines, in one pass. */
  rewriteTo(lines: ByteString, there: Rewriter): ByteString {
    return this.#translate(lines, there);
  }

  /** The same for the values of one row. */
  rewriteRow(row: readonly (ByteString | null)[], there: Rewriter): (ByteString | null)[] {
    return row.map((value, i) => (value === null ? null : there.materialise(this.#canonicaliseValue(value, i))));
  }

  #translate(lines: ByteString, there: Rewriter | undefined): ByteString {
    const scanner = this.#rewriter.finder.scan(lines, this.#withRoots);
    const field = new FieldCursor(lines);
    const out: ByteString[] = [];
    let copied = 0;
    for (let hit = scanner.next(0); hit; ) {
      field.moveTo(hit.index);
      if (this.#reachOfAll && field.isFlat()) {
        // Neither inner structure nor escaped slashes: what is found is replaced where it stands.
        let free = field.start;
        while (hit && hit.index < field.end) {
          const found = this.#rewriter.finder.examine(lines, hit.index, hit.text, this.#reachOfAll, free);
          if (found) {
            const text = there ? writeField(there.writeTokenText(found.text)) : found.text;
            out.push(lines.slice(copied, found.start), text);
            copied = free = found.end;
            if (found.isOwn) (this.tallies[field.column] as ColumnTally).rewritten++;
          }
          hit = scanner.next(found ? found.end : hit.index + 1);
        }
        continue;
      }
      const value = readField(lines.slice(field.start, field.end));
      const canonical = value === null ? null : this.#canonicaliseValue(value, field.column);
      const changed = there && canonical !== null ? there.materialise(canonical) : canonical;
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
    if (!column.rewrite) return value.includes(MARKER) ? VERBATIM + value : value;
    const result = this.#rewriter.canonicalise(value, column.reach);
    tally.rewritten += result.rewritten;
    tally.left += result.left;
    return result.value;
  }
}

/** The field of COPY lines in which a position lies; positions never go back. */
class FieldCursor {
  start = 0;
  /** Where the tab or newline after the field stands. */
  end = -1;
  column = -1;
  #lineEnd = -1;
  #nextEscapedSlash = 0;

  constructor(private readonly lines: ByteString) {
    this.#nextEscapedSlash = this.#find('\\/', 0);
  }

  #find(text: string, from: number): number {
    const at = this.lines.indexOf(text, from);
    return at === -1 ? this.lines.length : at;
  }

  moveTo(at: number): void {
    if (at > this.#lineEnd) {
      this.end = this.lines.lastIndexOf('\n', at - 1);
      if (at === 0) this.end = -1;
      this.column = -1;
      this.#lineEnd = this.#find('\n', at);
    }
    while (this.end < at) {
      this.start = this.end + 1;
      this.end = Math.min(this.#lineEnd, this.#find('\t', this.start));
      this.column++;
    }
  }

  /** True where raw bytes and value agree as far as addresses go: no inner structure, no escaped slash. */
  isFlat(): boolean {
    const { lines, start, end } = this;
    const first = lines.charCodeAt(start);
    if (first === BACKSLASH || first <= SPACE || first === QUOTE || first === BRACKET || first === BRACE) return false;
    if (lines.charCodeAt(start + 1) === COLON && mayHaveStructure(lines.slice(start, Math.min(end, start + 24))))
      return false;
    if (this.#nextEscapedSlash < start) this.#nextEscapedSlash = this.#find('\\/', start);
    return this.#nextEscapedSlash >= end;
  }
}

const [SPACE, QUOTE, COLON, BRACKET, BACKSLASH, BRACE] = [32, 34, 58, 91, 92, 123];

/** Writes canonical COPY lines with a place's own addresses. */
export function materialiseLines(lines: ByteString, rewriter: Rewriter): ByteString {
  let hit = lines.indexOf(MARKER);
  if (hit === -1) return lines;
  const field = new FieldCursor(lines);
  const out: ByteString[] = [];
  let copied = 0;
  let [token, written] = ['', ''];
  while (hit !== -1) {
    field.moveTo(hit);
    if (token === '' || !lines.startsWith(token, hit)) {
      token = lines.slice(hit, lines.indexOf('~', hit + 1) + 1);
      if (token !== VERBATIM && field.isFlat()) written = writeField(rewriter.writeTokenText(token));
    }
    if (token !== VERBATIM && field.isFlat()) {
      out.push(lines.slice(copied, hit), written);
      copied = hit + token.length;
    } else {
      const value = readField(lines.slice(field.start, field.end)) as ByteString;
      out.push(lines.slice(copied, field.start), writeField(rewriter.materialise(value)));
      copied = field.end;
      token = '';
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
