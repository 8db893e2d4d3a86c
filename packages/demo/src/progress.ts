/** Says how far something is: on one line that changes where somebody sees it, and every few seconds on a new one elsewhere. */
export class Progress {
  #saidAt = 0;

  constructor(private readonly output: NodeJS.WriteStream) {}

  show(text: string): void {
    if (this.output.isTTY) this.output.write(`\r\u001b[2K${text}`);
    else if (Date.now() - this.#saidAt >= EVERY_MS) {
      this.output.write(`${text}\n`);
      this.#saidAt = Date.now();
    }
  }

  end(): void {
    if (this.output.isTTY) this.output.write('\n');
  }
}

const EVERY_MS = 5000;
