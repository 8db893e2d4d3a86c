import { type ByteString, readLine, tableLabel, toBytes } from '@tessarion/core';
import type { Environment } from '../site/environment.js';

/** A place in a copy that still leads to its source. */
export interface Trace {
  /** Names the trace when it is accepted: `PLACE:WHAT`. */
  readonly name: string;
  readonly where: string;
  readonly what: TraceKind;
}

/** What of its source a copy must not hold. */
export type TraceKind = 'database-name' | 'database-login' | 'database-password' | 'root-path' | 'secret';

/** Traces as people are told of them. */
export const TRACE_WORDS: Record<TraceKind, string> = {
  'database-name': "the source's database name",
  'database-login': "the source's database login",
  'database-password': "the source's database password",
  'root-path': "a path into the source's folder",
  secret: "one of the source's secrets",
};

interface Needle {
  readonly text: ByteString;
  readonly buffer: Buffer;
  readonly what: TraceKind;
}

const MIN_NEEDLE = 6;
const LIMIT = 200;

/** Looks through one file piece by piece. */
export interface FileTraces {
  look(piece: Buffer): void;
}

/** Looks for what would let a copy reach its source: in every file and row on its way in. */
export class TraceFinder {
  readonly #needles: Needle[] = [];
  readonly #longest: number;
  readonly #search: RegExp | undefined;
  readonly found: Trace[] = [];

  constructor(source: Environment) {
    const add = (what: TraceKind, text: string): void => {
      if (text.length >= MIN_NEEDLE && !this.#needles.some((one) => one.text === toBytes(text))) {
        this.#needles.push({ what, text: toBytes(text), buffer: Buffer.from(text) });
      }
    };
    for (const { login } of source.databases) {
      add('database-password', login.password);
      add('database-name', login.database);
      add('database-login', login.user);
    }
    const folders = [source.folder, ...source.place.roots.map((root) => root.path)];
    for (const folder of folders)
      if (!folders.some((outer) => folder.startsWith(`${outer}/`))) add('root-path', folder);
    for (const setting of source.profile?.settings ?? [])
      if (setting.secret) add('secret', source.settings.get(setting.name) ?? '');
    const patterns = this.#needles.map((one) => one.text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'));
    this.#longest = Math.max(0, ...this.#needles.map((one) => one.buffer.length));
    this.#search = patterns.length > 0 ? new RegExp(patterns.join('|'), 'g') : undefined;
  }

  /** Joins what another finder found. */
  add(traces: readonly Trace[]): void {
    this.found.push(...traces);
  }

  #note(place: string, where: string, what: TraceKind): void {
    const name = `${place}:${what}`;
    if (this.found.length < LIMIT && !this.found.some((trace) => trace.name === name))
      this.found.push({ name, where, what });
  }

  /** What is looked for: only what holds one of these as they are can hold a trace. */
  get words(): readonly ByteString[] {
    return this.#needles.map((one) => one.text);
  }

  /** Looks through one file, whose pieces come in order. */
  inFile(path: ByteString): FileTraces {
    let tail: Buffer = Buffer.alloc(0);
    let linesBefore = 0;
    const seen = new Set<Needle>();
    return {
      look: (piece) => {
        const content = tail.length === 0 ? piece : Buffer.concat([tail, piece]);
        for (const needle of this.#needles) {
          const at = seen.has(needle) ? -1 : findWhole(content, needle.buffer);
          if (at === -1) continue;
          seen.add(needle);
          const line = linesBefore + countLines(content.subarray(0, at)) + 1;
          const shown = Buffer.from(path, 'latin1').toString();
          this.#note(shown, `file ${shown}, line ${line}`, needle.what);
        }
        // A needle may lie across the boundary of two pieces.
        const kept = Math.min(content.length, this.#longest + 1);
        if (piece.length >= MANY_BYTES) linesBefore += countLines(content.subarray(0, content.length - kept));
        tail = piece.length >= MANY_BYTES ? content.subarray(content.length - kept) : Buffer.alloc(0);
      },
    };
  }

  inRows(
    table: { schema: string; name: string },
    columns: readonly string[],
    keyColumns: readonly number[],
    lines: ByteString,
  ): void {
    if (!this.#search) return;
    this.#search.lastIndex = 0;
    for (let hit = this.#search.exec(lines); hit; hit = this.#search.exec(lines)) {
      if (!isWhole(lines[hit.index - 1] ?? '', lines[hit.index + hit[0].length] ?? '')) continue;
      const start = lines.lastIndexOf('\n', hit.index) + 1;
      const end = lines.indexOf('\n', hit.index);
      const column = columns[lines.slice(start, hit.index).split('\t').length - 1] ?? '?';
      const row = readLine(lines.slice(start, end));
      const key = keyColumns.map((index) => `${columns[index]} ${row[index]}`).join(', ');
      const needle = this.#needles.find((one) => one.text === hit[0]);
      const label = tableLabel(table);
      this.#note(
        `${label}.${column}`,
        `table ${label}, ${key || 'a row'}, column ${column}`,
        needle?.what ?? 'root-path',
      );
    }
  }

  /** What was found and nobody accepted by name. */
  unsettled(accepted: readonly string[]): Trace[] {
    return this.found.filter((trace) => !accepted.includes(trace.name));
  }
}

/** Pieces shorter than this are the last of their file. */
const MANY_BYTES = 1024 * 1024;

function findWhole(content: Buffer, needle: Buffer): number {
  const around = (at: number): string => (at < 0 ? '' : content.toString('latin1', at, at + 1));
  for (let at = content.indexOf(needle); at !== -1; at = content.indexOf(needle, at + 1))
    if (isWhole(around(at - 1), around(at + needle.length))) return at;
  return -1;
}

function countLines(content: Buffer): number {
  let lines = 0;
  for (let at = content.indexOf(10); at !== -1; at = content.indexOf(10, at + 1)) lines++;
  return lines;
}

/** A name is found only as a whole: not as a part of a longer word. */
const isWhole = (before: string, after: string): boolean => !/[A-Za-z0-9_]/.test(before) && !/[A-Za-z0-9_]/.test(after);
