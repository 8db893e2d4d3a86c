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
  const { parse } = await import('yaml');
  const content = FileContent.safeParse(parse(text) ?? {});
  if (!content.success)
    throw new CliError(
      2,
      `${path} is not right: ${content.error.issues[0]?.message}.`,
      'It may hold "url" and "token".',
      `Correct or remove ${path}.`,
    );
  return content.data;
}

/** Flags before variables before the file. */
export async function readSettings(flags: {
  url?: string | undefined;
  token?: string | undefined;
}): Promise<Setting[]> {
  const file = await readFile();
  const pick = (name: 'url' | 'token', variable: string, fallback: string | undefined): Setting => {
    if (flags[name] !== undefined) return { name, value: flags[name], source: `--${name}` };
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
