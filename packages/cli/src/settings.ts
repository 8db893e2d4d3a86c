import * as fs from 'node:fs/promises';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import { z } from 'zod';
import { CliError } from './errors.js';

const FileContent = z.strictObject({ url: z.string().optional(), token: z.string().optional() });

/** One effective value and where it came from. */
export interface Setting {
  readonly name: 'url' | 'token';
  readonly value: string | undefined;
  readonly source: string;
}

const DEFAULT_URL = 'http://127.0.0.1:7070';

export const settingsFile = (): string =>
  process.env.TESSARION_CONFIG ?? join(process.env.XDG_CONFIG_HOME ?? join(homedir(), '.config'), 'tessarion.yaml');

async function readFile(): Promise<z.infer<typeof FileContent>> {
  const path = settingsFile();
  const text = await fs.readFile(path, 'utf8').catch(() => '');
  if (text === '') return {};
  const wrong = (why: string): CliError =>
    new CliError(2, `${path} is not right: ${why}.`, 'It may hold "url" and "token".', `Correct or remove ${path}.`);
  const { parseDocument } = await import('yaml');
  const document = parseDocument(text);
  const [mistake] = document.errors;
  if (mistake) throw wrong(`line ${mistake.linePos?.[0].line ?? 1} is no YAML`);
  const content = FileContent.safeParse(document.toJS() ?? {});
  if (!content.success) throw wrong(content.error.issues[0]?.message ?? 'it holds something else');
  return content.data;
}

/** What is to be read and not shown: in a file, or on the standard input for `-`. @throws {CliError} usage */
export async function readSecret(from: string, option: string): Promise<string> {
  const path = from === '-' ? '/dev/stdin' : from;
  const text = (
    await fs.readFile(path, 'utf8').catch((error: Error) => {
      throw new CliError(2, `${option} ${from} cannot be read.`, error.message, 'Name a file that holds it, or -.');
    })
  ).trim();
  if (text === '')
    throw new CliError(2, `${option} ${from} holds nothing.`, '', 'Name a file that holds it and nothing else.');
  return text;
}

/** Flags before variables before the file. */
export async function readSettings(flags: {
  url?: string | undefined;
  token?: string | undefined;
  tokenFrom?: string | undefined;
}): Promise<Setting[]> {
  const file = await readFile();
  const kept = flags.tokenFrom === undefined ? undefined : await readSecret(flags.tokenFrom, '--token-from');
  const pick = (name: 'url' | 'token', variable: string, fallback: string | undefined): Setting => {
    if (flags[name] !== undefined) return { name, value: flags[name], source: `--${name}` };
    if (name === 'token' && kept !== undefined) return { name, value: kept, source: '--token-from' };
    const given = process.env[variable];
    if (given !== undefined && given !== '') return { name, value: given, source: variable };
    if (file[name] !== undefined) return { name, value: file[name], source: settingsFile() };
    return { name, value: fallback, source: fallback === undefined ? 'not set' : 'default' };
  };
  return [pick('url', 'TESSARION_URL', DEFAULT_URL), pick('token', 'TESSARION_TOKEN', undefined)];
}

export async function saveSettings(url: string, token: string): Promise<string> {
  const path = settingsFile();
  const { stringify } = await import('yaml');
  await fs.mkdir(dirname(path), { recursive: true });
  await fs.writeFile(path, stringify({ url, token }), { mode: 0o600 });
  return path;
}
