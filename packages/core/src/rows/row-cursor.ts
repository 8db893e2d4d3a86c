import type { ByteString } from '../address/place.js';
import { NULL_FIELD, readField, readLine } from './copy-text.js';
import { compareKeys, type KeyOrder, type RowKey } from './keys.js';

/** Rows that do not come in the order of their key: the reader or the stored data is at fault. */
export class RowOrderError extends Error {
  override readonly name = 'RowOrderError';
}

/** A row at hand: its line without the newline, its key, and its values when somebody asks for them. */
export class RowAtHand {
  #values: readonly (ByteString | null)[] | undefined;

  constructor(
    readonly line: ByteString,
    readonly key: RowKey,
  ) {}

  get values(): readonly (ByteString | null)[] {
    this.#values ??= readLine(this.line);
    return this.#values;
  }
}

/** Walks rows that arrive in batches of whole lines, in key order, one at a time. Holds one batch. */
export class RowCursor {
  readonly #batches: AsyncIterator<ByteString>;
  readonly #keyColumns: readonly number[];
  readonly #orders: readonly KeyOrder[];
  #batch = '';
  #at = 0;
  current: RowAtHand | undefined;

  /** @param keyColumns positions of the key columns; empty means the whole line is the key */
  constructor(batches: AsyncIterable<ByteString>, keyColumns: readonly number[], orders: readonly KeyOrder[]) {
    this.#batches = batches[Symbol.asyncIterator]();
    this.#keyColumns = keyColumns;
    this.#orders = orders;
  }

  /** Moves to the next row without waiting, or returns false when {@link fill} must be awaited first. */
  next(): boolean {
    const end = this.#batch.indexOf('\n', this.#at);
    if (end === -1) return false;
    const line = this.#batch.slice(this.#at, end);
    this.#at = end + 1;
    const key = this.#keyOf(line);
    if (this.current && compareKeys(this.current.key, key, this.#orders) > 0) {
      throw new RowOrderError(`Rows out of order: ${JSON.stringify(this.current.key)} before ${JSON.stringify(key)}.`);
    }
    this.current = new RowAtHand(line, key);
    return true;
  }

  #keyOf(line: ByteString): RowKey {
    if (this.#keyColumns.length === 0) return [line];
    if (this.#keyColumns.length > 1 || this.#keyColumns[0] !== 0) {
      const fields = line.split('\t');
      return this.#keyColumns.map((column) => readField(fields[column] ?? NULL_FIELD));
    }
    // Most keys are one column and stand first.
    const end = line.indexOf('\t');
    return [readField(end === -1 ? line : line.slice(0, end))];
  }

  /** Waits for the next batch and moves to its first row, or to the end (`current` undefined). */
  async fill(): Promise<void> {
    for (;;) {
      const batch = await this.#batches.next();
      if (batch.done) {
        this.current = undefined;
        return;
      }
      this.#batch = batch.value;
      this.#at = 0;
      if (this.next()) return;
    }
  }

  async advance(): Promise<void> {
    if (!this.next()) await this.fill();
  }
}
