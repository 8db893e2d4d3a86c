import { Transform, type TransformCallback } from 'node:stream';

/** How much of a page's end is held back, to find where its body ends. */
const TAIL_BYTES = 16 * 1024;

/** Puts something before the last `</body>` of a page while it streams through; a page without one stays as it is. */
export class MarkedPage extends Transform {
  #held = Buffer.alloc(0);

  constructor(private readonly mark: string) {
    super();
  }

  override _transform(chunk: Buffer, _encoding: BufferEncoding, done: TransformCallback): void {
    const all = Buffer.concat([this.#held, chunk]);
    const passed = Math.max(0, all.length - TAIL_BYTES);
    this.#held = Buffer.from(all.subarray(passed));
    done(null, passed > 0 ? all.subarray(0, passed) : undefined);
  }

  override _flush(done: TransformCallback): void {
    const end = this.#held.toString('latin1').toLowerCase().lastIndexOf('</body>');
    done(
      null,
      end === -1
        ? this.#held
        : Buffer.concat([this.#held.subarray(0, end), Buffer.from(this.mark), this.#held.subarray(end)]),
    );
  }
}

/** Ends a stream that grows beyond a size: what unpacks to a thousand times its length is no page. */
export class Bounded extends Transform {
  #bytes = 0;

  constructor(private readonly most: number) {
    super();
  }

  override _transform(chunk: Buffer, _encoding: BufferEncoding, done: TransformCallback): void {
    this.#bytes += chunk.length;
    if (this.#bytes > this.most) done(new Error(`more than ${this.most} bytes after unpacking`));
    else done(null, chunk);
  }
}
