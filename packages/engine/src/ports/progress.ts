/** What a running step has done so far; totals where they are known beforehand. */
export interface Progress {
  readonly files: number;
  readonly rows: number;
  readonly bytes: number;
}

/** Passed through long work: counts what is done, and says when it should stop. */
export interface Work {
  /** Aborted when a person stops the transfer, the worker shuts down, or its lock is lost. */
  readonly signal: AbortSignal;
  count(done: Partial<Progress>): void;
}

/** Throws the reason when the work should stop. */
export const checkpoint = (work: Work): void => work.signal.throwIfAborted();
