import { Worker } from 'node:worker_threads';
import { EngineError, type EngineErrorCode } from '../ports/errors.js';
import type { Work } from '../ports/progress.js';
import type { LeftOut } from '../site/left-out.js';
import { type PortableEnvironment, toPortable } from '../site/portable.js';
import type { FilePlan } from './files.js';
import type { PortableSource } from './sources.js';
import type { Trace } from './traces.js';

/** What the thread that copies files is told. */
export interface FileLaneOrder {
  readonly source: PortableSource;
  readonly destination: PortableEnvironment;
  readonly leftOut: LeftOut;
  readonly exact: boolean;
  readonly treeId: string;
  /** See {@link FilePlan.like}. */
  readonly like: PortableEnvironment;
  /** The environment whose traces are looked for. */
  readonly tracesOf: PortableEnvironment | undefined;
  readonly spool: { readonly path: string; readonly key: Uint8Array } | undefined;
}

/** What it answers. */
export type FileLaneMessage =
  | { readonly type: 'count'; readonly files: number; readonly bytes: number }
  | { readonly type: 'done'; readonly traces: readonly Trace[] }
  | { readonly type: 'failed'; readonly code: EngineErrorCode; readonly message: string; readonly next: string };

/**
 * Copies all roots in a thread of its own, so that files and rows move side by side and neither keeps the worker
 * from its connections.
 *
 * @returns the traces found in files, once the thread has ended; nothing is written after that, also when it fails
 */
export async function copyFilesAside(
  plan: Omit<FilePlan, 'traces'>,
  tracesOf: PortableEnvironment | undefined,
  spool: FileLaneOrder['spool'],
  work: Work,
): Promise<readonly Trace[]> {
  const order: FileLaneOrder = {
    source: plan.source.portable,
    destination: toPortable(plan.destination),
    leftOut: plan.leftOut,
    exact: plan.exact,
    treeId: plan.treeId,
    like: toPortable(plan.like),
    tracesOf,
    spool,
  };
  work.signal.throwIfAborted();
  const thread = new Worker(new URL('./file-lane-thread.js', import.meta.url), { workerData: order });
  const stop = (): void => thread.postMessage('stop');
  work.signal.addEventListener('abort', stop);
  let outcome: Extract<FileLaneMessage, { type: 'done' }> | EngineError | undefined;
  thread.on('message', (message: FileLaneMessage) => {
    if (message.type === 'count') work.count({ files: message.files, bytes: message.bytes });
    else if (message.type === 'done') outcome = message;
    else outcome = new EngineError(message.code, message.message, message.next);
  });
  return new Promise((resolve, reject) => {
    thread.on('error', (error) => {
      outcome = new EngineError('command-failed', `Copying files failed: ${error.message}`, 'Run it again.', {
        cause: error,
      });
    });
    thread.on('exit', () => {
      work.signal.removeEventListener('abort', stop);
      if (outcome instanceof EngineError) reject(work.signal.aborted ? work.signal.reason : outcome);
      else if (outcome) resolve(outcome.traces);
      else reject(new EngineError('command-failed', 'The thread that copies files ended early.', 'Run it again.'));
    });
  });
}
