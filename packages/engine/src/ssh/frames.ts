/** What is said to the program on a server, and what it says (see `remote.py`, whose other end this is). */

/** Length of the payload, kind, request. */
const HEAD = 9;

/** Of a request, an answer, a failure, data, their end, their giving up, a piece that was taken, a sign of life. */
export type FrameKind = 'Q' | 'A' | 'F' | 'D' | 'E' | 'X' | 'C' | '.';

/** One frame, as it came. */
export interface Frame {
  readonly kind: FrameKind;
  readonly request: number;
  readonly payload: Buffer;
}

/** A frame as it travels. */
export function frameOf(kind: FrameKind, request: number, payload: Uint8Array = NOTHING): Buffer {
  const frame = Buffer.allocUnsafe(HEAD + payload.length);
  frame.writeUInt32BE(payload.length, 0);
  frame.write(kind, 4, 'latin1');
  frame.writeUInt32BE(request, 5);
  frame.set(payload, HEAD);
  return frame;
}

const NOTHING = Buffer.alloc(0);

/** Tells frames apart in what comes, in pieces of any size. */
export class FrameReader {
  #pieces: Buffer[] = [];
  #bytes = 0;

  /** @returns the frames that are whole by now */
  *add(piece: Buffer): Generator<Frame> {
    this.#pieces.push(piece);
    this.#bytes += piece.length;
    while (this.#bytes >= HEAD) {
      const head = this.#joined(HEAD);
      const length = head.readUInt32BE(0);
      if (this.#bytes < HEAD + length) return;
      const whole = this.#joined(HEAD + length);
      this.#pieces[0] = whole.subarray(HEAD + length);
      this.#bytes -= HEAD + length;
      yield {
        kind: whole.toString('latin1', 4, 5) as FrameKind,
        request: whole.readUInt32BE(5),
        payload: whole.subarray(HEAD, HEAD + length),
      };
    }
  }

  /** The first pieces as one of at least so many bytes, which are there. */
  #joined(bytes: number): Buffer {
    const first = this.#pieces[0] as Buffer;
    if (first.length >= bytes) return first;
    const one = Buffer.concat(this.#pieces);
    this.#pieces = [one];
    return one;
  }
}
