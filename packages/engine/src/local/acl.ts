import type { ByteString } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import type { Acl } from '../ports/server.js';
import { opened } from './below.js';
import { runTool } from './tool.js';

const MORE_THAN_MODE = /^[^ ]{10}\+/;

/**
 * Access control lists of what lies in an open folder and has more than its mode says, by path; `.` is the folder itself.
 *
 * @param paths what is asked for, relative; everything when it is left out. What is not there has none
 * @throws {EngineError} `command-failed` where there are some, and nothing to read them with
 */
export async function readAcls(folder: number, paths?: readonly ByteString[]): Promise<Map<ByteString, Acl>> {
  if (paths?.length === 0) return new Map();
  const cwd = opened(folder);
  const input = paths && Buffer.from(paths.join('\0'), 'latin1');
  const options = ['--skip-base', '--numeric', '--physical'];
  try {
    const { code, output, errors } = input
      ? await runTool('xargs', ['--null', 'getfacl', ...options, '--'], { cwd, input })
      : await runTool('getfacl', [...options, '--recursive', '--', '.'], { cwd });
    // So xargs says that a program is not there.
    if (code === 127) throw new EngineError('command-failed', errors.trim(), 'Install acl on the server.');
    return parseAcls(output);
  } catch (error) {
    if (!(error instanceof EngineError)) throw error;
    const { output } = input
      ? await runTool('xargs', ['--null', 'ls', '-ldU', '--'], { cwd, input })
      : await runTool('find', ['.', '-exec', 'ls', '-ldU', '--', '{}', '+'], { cwd });
    if (!output.split('\n').some((line) => MORE_THAN_MODE.test(line))) return new Map();
    throw new EngineError(
      'command-failed',
      'Files here have access control lists, which cannot be read.',
      'Install acl on the server.',
      { cause: error },
    );
  }
}

/** What `getfacl` writes, by path. */
export function parseAcls(output: string): Map<ByteString, Acl> {
  const found = new Map<ByteString, Acl>();
  for (const block of output.split('\n\n')) {
    const name = /^# file: (.*)$/m.exec(block)?.[1];
    if (name === undefined) continue;
    const path = name.replace(/\\([0-7]{3})/g, (_all, digits: string) =>
      String.fromCharCode(Number.parseInt(digits, 8)),
    );
    found.set(
      path,
      block
        .split('\n')
        .filter((line) => line !== '' && !line.startsWith('#'))
        .join('\n'),
    );
  }
  return found;
}

/** @throws {EngineError} `command-failed` */
export async function writeAcls(files: readonly { readonly file: number; readonly acl: Acl }[]): Promise<void> {
  const input = files.map(({ acl }, i) => `# file: ${opened(i + 3)}\n${acl}\n\n`).join('');
  const { code, errors } = await runTool('setfacl', ['--restore=-'], {
    input: Buffer.from(input),
    files: files.map(({ file }) => file),
  });
  if (code !== 0)
    throw new EngineError(
      'command-failed',
      `Access control lists could not be carried over: ${errors.trim()}`,
      'See that the file system keeps them, and that Tessarion’s user may set them.',
    );
}
