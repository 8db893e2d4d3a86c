import type { ByteString } from '../address/place.js';

/** A checksum of a line (CRC-32 or its equal), handed in; 32 bits, unsigned. */
export type LineChecksum = (line: ByteString) => number;

const TARGET_BYTES = 8192;
const MIN_BYTES = 2048;
const MAX_BYTES = 65_536;

/**
 * Cuts a stream of rows into blocks of about 8 KiB whose boundaries depend on the rows themselves, so that a changed
 * row changes one block and not all that follow.
 */
export class BlockCutter {
  readonly #checksum: LineChecksum;
  readonly #emit: (block: ByteString, rows: number) => void;
  #pending: ByteString[] = [];
  #bytes = 0;
  #rows = 0;

  /** @param emit receives each block, whole lines, with its row count */
  constructor(checksum: LineChecksum, emit: (block: ByteString, rows: number) => void) {
    this.#checksum = checksum;
    this.#emit = emit;
  }

  /** @param lines whole lines, each ended by a newline */
  add(lines: ByteString): void {
    let blockStart = 0;
    let start = 0;
    for (let end = lines.indexOf('\n'); end !== -1; end = lines.indexOf('\n', start)) {
      const length = end + 1 - start;
      this.#bytes += length;
      this.#rows++;
      const full = this.#bytes >= MAX_BYTES;
      if (
        full ||
        (this.#bytes >= MIN_BYTES && this.#checksum(lines.slice(start, end)) < (2 ** 32 * length) / TARGET_BYTES)
      ) {
        this.#pending.push(lines.slice(blockStart, end + 1));
        this.#flush();
        blockStart = end + 1;
      }
      start = end + 1;
    }
    if (blockStart < lines.length) this.#pending.push(lines.slice(blockStart));
  }

  /** Whether everything that was added has been emitted. */
  get isEmpty(): boolean {
    return this.#rows === 0;
  }

  end(): void {
    if (this.#rows > 0) this.#flush();
  }

  #flush(): void {
    const block = this.#pending.length === 1 ? (this.#pending[0] as string) : this.#pending.join('');
    const rows = this.#rows;
    this.#pending = [];
    this.#bytes = 0;
    this.#rows = 0;
    this.#emit(block, rows);
  }
}
