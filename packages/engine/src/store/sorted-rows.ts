import { createCipheriv, createDecipheriv, randomBytes, randomUUID } from 'node:crypto';
import { closeSync, openSync, readSync, rmSync, writeSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type ByteString, compareKeys, type KeyOrder, type RowKey, readLine } from '@tessarion/core';
import { fileError } from '../ports/errors.js';

/** How rows without a usable order of their own are sorted. */
export interface SortOrder {
  /** Positions of the key's columns; none for tables whose rows are ordered as whole lines. */
  readonly keyColumns: readonly number[];
  readonly orders: readonly KeyOrder[];
}

interface SortedLine {
  readonly line: ByteString;
  readonly key: RowKey;
}

type Compare = (a: SortedLine, b: SortedLine) => number;

const RUN_BYTES = 24 * 1024 * 1024;
const BATCH_BYTES = 64 * 1024;

/**
 * Sorts rows whose key may hold an address (its canonical form sorts otherwise), or that have no key and are ordered
 * as whole lines. What is more than a run is sorted on disk, in files that nobody else can open and that go with the
 * process, encrypted with a key that is never written down.
 *
 * @param rows batches of whole lines
 * @param runBytes how much is sorted in memory at once
 * @throws {EngineError} `disk-full` when the folder for temporary files has no room
 */
export async function* sortedRows(
  rows: AsyncIterable<ByteString>,
  { keyColumns, orders }: SortOrder,
  runBytes = RUN_BYTES,
): AsyncGenerator<ByteString> {
  const compare: Compare = (a, b) => compareKeys(a.key, b.key, orders) || compareLines(a.line, b.line);
  const withKey = (line: ByteString): SortedLine => {
    if (keyColumns.length === 0) return { line, key: [] };
    const values = readLine(line);
    return { line, key: keyColumns.map((column) => values[column] ?? null) };
  };
  const runs: SortedRun[] = [];
  try {
    let lines: SortedLine[] = [];
    let bytes = 0;
    for await (const batch of rows) {
      for (const line of batch.slice(0, -1).split('\n')) lines.push(withKey(line));
      bytes += batch.length;
      if (bytes < runBytes) continue;
      runs.push(new SortedRun(lines.sort(compare), withKey));
      [lines, bytes] = [[], 0];
    }
    lines.sort(compare);
    yield* batches(runs.length === 0 ? lines : merged([...runs.map((run) => run.lines()), lines.values()], compare));
  } finally {
    for (const run of runs) run.close();
  }
}

const compareLines = (a: ByteString, b: ByteString): number => (a < b ? -1 : a > b ? 1 : 0);

function* batches(lines: Iterable<SortedLine>): Generator<ByteString> {
  let batch: ByteString[] = [];
  let bytes = 0;
  for (const { line } of lines) {
    batch.push(line, '\n');
    bytes += line.length + 1;
    if (bytes < BATCH_BYTES) continue;
    yield batch.join('');
    [batch, bytes] = [[], 0];
  }
  if (bytes > 0) yield batch.join('');
}

/** Merges sorted runs: a binary heap of the first line that each still has. */
function* merged(runs: readonly Iterator<SortedLine>[], compare: Compare): Generator<SortedLine> {
  interface Head {
    line: SortedLine;
    readonly rest: Iterator<SortedLine>;
  }
  const heap: Head[] = [];
  const sink = (from: number): void => {
    const head = heap[from] as Head;
    for (let at = from; ; ) {
      let least = 2 * at + 1;
      const [left, right] = [heap[least], heap[least + 1]];
      if (left && right && compare(right.line, left.line) < 0) least++;
      const child = heap[least];
      if (!child || compare(head.line, child.line) <= 0) {
        heap[at] = head;
        return;
      }
      heap[at] = child;
      at = least;
    }
  };
  for (const rest of runs) {
    const first = rest.next();
    if (!first.done) heap.push({ line: first.value, rest });
  }
  for (let at = (heap.length >> 1) - 1; at >= 0; at--) sink(at);
  for (let head = heap[0]; head; head = heap[0]) {
    yield head.line;
    const next = head.rest.next();
    if (!next.done) head.line = next.value;
    else {
      const last = heap.pop() as Head;
      if (heap.length === 0) return;
      heap[0] = last;
    }
    sink(0);
  }
}

/** A sorted run in a temporary file without a name. */
class SortedRun {
  readonly #file: number;
  readonly #key = randomBytes(32);
  readonly #iv = randomBytes(16);
  readonly #path = join(tmpdir(), `tessarion-sort-${randomUUID()}`);

  constructor(
    lines: Iterable<SortedLine>,
    private readonly withKey: (line: ByteString) => SortedLine,
  ) {
    try {
      this.#file = openSync(this.#path, 'wx+', 0o600);
    } catch (error) {
      throw fileError(error, this.#path);
    }
    try {
      rmSync(this.#path);
      const cipher = createCipheriv('aes-256-ctr', this.#key, this.#iv);
      for (const batch of batches(lines)) {
        const sealed = cipher.update(batch, 'latin1');
        for (let at = 0; at < sealed.length; ) at += writeSync(this.#file, sealed, at);
      }
    } catch (error) {
      this.close();
      throw fileError(error, this.#path);
    }
  }

  *lines(): Generator<SortedLine> {
    const decipher = createDecipheriv('aes-256-ctr', this.#key, this.#iv);
    const memory = Buffer.allocUnsafe(BATCH_BYTES);
    let pending: ByteString = '';
    for (let at = 0, read = -1; read !== 0; at += read) {
      read = readSync(this.#file, memory, 0, memory.length, at);
      const lines = (pending + decipher.update(memory.subarray(0, read)).toString('latin1')).split('\n');
      pending = lines.pop() as ByteString;
      for (const line of lines) yield this.withKey(line);
    }
  }

  close(): void {
    closeSync(this.#file);
  }
}
