import { spawn } from 'node:child_process';
import { EngineError } from '../ports/errors.js';
import type { CommandResult } from '../ports/server.js';

/** How a program of the system is run. */
export interface ToolOptions {
  /** Folder in which it works. */
  readonly cwd?: string;
  readonly input?: Buffer;
  /** Open files of this process that it gets as its own from 3 on. */
  readonly files?: readonly number[];
}

/** Debian's packages of tools that are not on every machine. */
const PACKAGES: Readonly<Record<string, string>> = {
  find: 'findutils',
  xargs: 'findutils',
  getfacl: 'acl',
  setfacl: 'acl',
};

/** That a program of the system is not to be had. */
export const toolMissing = (program: string, why: string, options?: ErrorOptions): EngineError =>
  new EngineError(
    'command-failed',
    `${program} ${why}`,
    `Install ${PACKAGES[program] ?? program} on the server.`,
    options,
  );

/**
 * Runs a program of the server's own system, which says what it says in English; its output comes byte for byte.
 *
 * @throws {EngineError} `command-failed` when it cannot be started
 */
export function runTool(
  program: string,
  args: readonly string[],
  { cwd = '/', input, files = [] }: ToolOptions = {},
): Promise<CommandResult> {
  return new Promise((resolve, reject) => {
    const child = spawn(program, args, {
      cwd,
      env: { PATH: process.env.PATH, LC_ALL: 'C' },
      stdio: [input ? 'pipe' : 'ignore', 'pipe', 'pipe', ...files],
    });
    const output: Buffer[] = [];
    const errors: Buffer[] = [];
    child.stdout?.on('data', (piece: Buffer) => output.push(piece));
    child.stderr?.on('data', (piece: Buffer) => errors.push(piece));
    // One that ends before it has read everything says why.
    child.stdin?.on('error', () => undefined);
    child.stdin?.end(input);
    child.on('error', (error) => {
      reject(toolMissing(program, `cannot be started: ${error.message}`, { cause: error }));
    });
    child.on('close', (code) =>
      resolve({
        code: code ?? 1,
        output: Buffer.concat(output).toString('latin1'),
        errors: Buffer.concat(errors).toString(),
      }),
    );
  });
}
