import { setTimeout } from 'node:timers/promises';
import { type Client, followEvents } from '@tessarion/client';
import type { StreamEvent, TransferDetail } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { CliError } from './errors.js';
import { bar, bold, dim, print, say, size, tell } from './output.js';

const ENDED = new Set(['done', 'failed', 'stopped', 'undone']);

/** Follows a transfer to its end: phases as lines, and on a terminal a live line below them. Ctrl-C only detaches. */
export async function watchTransfer(client: Client, id: string): Promise<TransferDetail> {
  const abort = new AbortController();
  const isTerminal = process.stderr.isTTY === true;
  let detached = false;
  const detach = (): void => {
    detached = true;
    abort.abort();
  };
  process.once('SIGINT', detach);
  const shown = new Set<string>();
  const startedAt = Date.now();
  const show = async (): Promise<TransferDetail> => {
    const transfer = await client.call('transferShow', { params: { id } });
    if (isTerminal) process.stderr.write('\r\u001b[K');
    if (transfer.placeInLine !== null && !shown.has('line')) {
      shown.add('line');
      tell(`Waits in line: ${transfer.placeInLine} before it.`);
    }
    for (const step of transfer.steps) {
      if (step.state === 'coming' || step.state === 'running' || shown.has(step.name)) continue;
      shown.add(step.name);
      const seconds =
        step.startedAt && step.endedAt
          ? ((Date.parse(step.endedAt) - Date.parse(step.startedAt)) / 1000).toFixed(1)
          : '';
      tell(
        `${step.state === 'done' ? ' ' : '!'} ${step.title}${step.detail ? dim(`: ${step.detail}`) : ''} ${dim(`${seconds} s`)}`,
      );
    }
    if (isTerminal && !ENDED.has(transfer.state) && transfer.progress)
      process.stderr.write(liveLine(transfer, startedAt));
    return transfer;
  };
  try {
    let transfer = await show();
    if (!ENDED.has(transfer.state)) {
      const isOwn = (event: StreamEvent): boolean => event.type === 'transfer' && event.transfer === id;
      for await (const _ of mayHaveChanged(client, abort.signal, isOwn)) {
        transfer = await show();
        if (ENDED.has(transfer.state)) break;
      }
    }
    if (detached && !ENDED.has(transfer.state)) {
      print();
      say(`Detached; ${id} goes on. Watch it: tessarion watch ${id}   Stop it: tessarion stop ${id}`);
    }
    return transfer;
  } finally {
    abort.abort();
    process.off('SIGINT', detach);
  }
}

function liveLine(transfer: TransferDetail, startedAt: number): string {
  const { progress } = transfer;
  if (!progress) return '';
  const seconds = Math.max(0.5, (Date.now() - startedAt) / 1000);
  const rate = progress.bytes / seconds;
  const share = progress.totalBytes ? progress.bytes / progress.totalBytes : 0;
  const left =
    progress.totalBytes && rate > 0
      ? `, about ${Math.max(1, Math.round((progress.totalBytes - progress.bytes) / rate))} s left`
      : '';
  return `${bar(share)} ${size(progress.bytes)}, ${size(rate)}/s, ${counted(progress.files, 'file')}, ${counted(progress.rows, 'row')}${left}`;
}

/** Says how a transfer ended; anything but done is an error. */
export function reportEnd(transfer: TransferDetail): void {
  if (transfer.state === 'done') {
    const seconds =
      transfer.startedAt && transfer.endedAt
        ? ` in ${((Date.parse(transfer.endedAt) - Date.parse(transfer.startedAt)) / 1000).toFixed(1)} s`
        : '';
    say(`${bold('Done')}${seconds}: ${transfer.sentence.map((piece) => piece.text).join('')}`);
    for (const warning of transfer.warnings) say(`Note: ${warning}`);
    for (const remain of transfer.remains) say(`Stays: ${remain}`);
    const held = transfer.proof.filter((point) => point.state === 'passed').length;
    if (transfer.proof.length > 0) print(`Read again: ${held} of ${transfer.proof.length} points hold.`);
    for (const point of transfer.proof) if (point.state !== 'passed') say(`Not so: ${point.message}`);
    if (transfer.canUndo) print(dim(`Take it back: tessarion undo ${transfer.id}`));
    return;
  }
  if (transfer.state === 'failed') {
    const isOutdated = transfer.failure?.code === 'outdated';
    throw new CliError(
      isOutdated ? 5 : 1,
      `${transfer.kind} ${transfer.id} ${isOutdated ? 'was refused' : 'failed'}.`,
      transfer.failure?.message ?? '',
      transfer.failure?.next ?? '',
    );
  }
  if (transfer.state === 'stopped')
    throw new CliError(
      1,
      `${transfer.kind} ${transfer.id} was stopped.`,
      'Everything is as it was before.',
      'Start it again when it suits.',
    );
}

const [FIRST_PAUSE_MS, LONGEST_PAUSE_MS] = [40, 1000];

/**
 * Comes back whenever something may have changed: at each event of it, and after pauses that grow to a second. Events
 * tell nothing of the time before they are followed, and most work ends sooner than that.
 */
export async function* mayHaveChanged(
  client: Client,
  signal: AbortSignal,
  isOf: (event: StreamEvent) => boolean,
): AsyncGenerator<void> {
  const events = followEvents(client, signal);
  let coming = events.next();
  let pause = FIRST_PAUSE_MS;
  for (let due = performance.now() + pause; ; ) {
    const timer = new AbortController();
    const wait = setTimeout(Math.max(0, due - performance.now()), undefined, { signal: timer.signal });
    const next = await Promise.race([coming, wait.catch(() => undefined)]);
    timer.abort();
    if (next?.done) return;
    if (next) coming = events.next();
    if (next && !isOf(next.value)) continue;
    yield;
    pause = Math.min(LONGEST_PAUSE_MS, pause * 1.5);
    due = performance.now() + pause;
  }
}
