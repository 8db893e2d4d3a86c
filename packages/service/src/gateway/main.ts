import { type ChildProcess, fork } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import type { Part } from './serve-gateway.js';

/**
 * Keeps the gateway's processes alive: `node gateway/main.js DATA-FOLDER HOST PORT [TRUSTED-FRONT,…]`. It reads nothing
 * that comes from outside, so that nothing from outside ends it.
 */
const [dataFolder, host, port, trusted = ''] = process.argv.slice(2);
if (dataFolder === undefined || host === undefined || port === undefined)
  throw new Error('usage: DATA-FOLDER HOST PORT [TRUSTED-FRONT,…]');
const places = [dataFolder, host, port, trusted];

const program = fileURLToPath(new URL('./serve-main.js', import.meta.url));
const children = new Set<ChildProcess>();
let isStopping = false;

/** What streams through is held for a moment only: small young space, and few arenas to leave pieces in. */
const FRUGAL = { execArgv: ['--max-semi-space-size=4'], env: { ...process.env, MALLOC_ARENA_MAX: '2' } };

/** How long a process must have served so that it is started anew at once. */
const SERVED_MS = 1000;

function keep(part: Part): void {
  const began = Date.now();
  let hasServed = false;
  const child = fork(program, [part, ...places], { stdio: 'inherit', ...FRUGAL });
  children.add(child);
  child.on('message', () => {
    hasServed = true;
  });
  child.on('error', () => undefined);
  child.on('exit', () => {
    children.delete(child);
    if (isStopping) return;
    // Why it cannot serve it has written to the log; whoever started this looks there.
    if (!hasServed && part === 'front') return stop(1);
    setTimeout(() => !isStopping && keep(part), Date.now() - began < SERVED_MS ? 200 : 0);
  });
}

function stop(code: number): void {
  isStopping = true;
  for (const child of children) child.kill('SIGTERM');
  const end = (): void => void (children.size === 0 && process.exit(code));
  for (const child of children) child.on('exit', () => setImmediate(end));
  end();
}

process.on('SIGTERM', () => stop(0));
process.on('SIGINT', () => stop(0));
keep('front');
keep('copies');
