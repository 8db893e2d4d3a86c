import {
  type ByteString,
  type ConfigurationFacts,
  type DataClass,
  type FolderFacts,
  formatLocation,
  type SettingFact,
  type SettingsFormat,
  type SiteFacts,
  settingsIn,
  toText,
} from '@tessarion/core';
import type { DatabaseLogin } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { walkRoot } from '../site/root-reader.js';
import { lookAtTables, type TableHistory } from './tables.js';

/** Folders that hold other people's code, in which nothing is searched. */
const FOREIGN = new Set(['node_modules', 'vendor', '.git']);
const TEXT =
  /\.(html?|php|twig|tpl|phtml|css|scss|js|mjs|json|xml|txt|md|ya?ml|env|ini|conf|svg|rss)$|(^|\/)\.env[^/]*$/i;
const MOST_TEXT_BYTES = 256 * 1024;
/** What is read of a site's texts at most; more tells nothing new. */
const MOST_READ_BYTES = 200 << 20;
const FORMATS: readonly (readonly [SettingsFormat, RegExp])[] = [
  ['env', /(^|\/)\.env[^/]*$|\.env$/i],
  ['ini', /\.(ini|conf|cnf)$/i],
  ['json', /\.json$/i],
  ['yaml', /\.ya?ml$/i],
];
const DEEPEST_FOLDER = 3;
/** Without a profile everything is unclassified. */
const EVERYTHING: ReadonlySet<DataClass> = new Set(['unclassified']);

/**
 * Looks at a running site that has no profile yet: its tables with samples of their values, its folders, and the files
 * that hold its address or settings. Read only; of large tables and trees a part.
 */
export async function lookAtSite(environment: Environment, history: readonly TableHistory[]): Promise<SiteFacts> {
  const databases = [];
  for (const database of environment.databases)
    databases.push({ name: database.name, tables: await lookAtTables(database, history) });
  const files = {
    folders: new Map<string, FolderFacts>(),
    texts: [] as string[],
    configurations: [] as ConfigurationFacts[],
  };
  for (const root of environment.place.roots) await lookAtRoot(environment, root.name, files);
  return { databases, folders: [...files.folders.values()], texts: files.texts, configurations: files.configurations };
}

async function lookAtRoot(
  environment: Environment,
  root: string,
  found: { folders: Map<string, FolderFacts>; texts: string[]; configurations: ConfigurationFacts[] },
): Promise<void> {
  const hosts = environment.place.addresses.map((one) => Buffer.from(one.host));
  let read = 0;
  for await (const { path: at, node, realPath } of walkRoot(environment, root, EVERYTHING)) {
    const path = toText(at);
    const parts = path.split('/');
    if (parts.some((part) => FOREIGN.has(part))) continue;
    if (node.type === 'folder' && parts.length <= DEEPEST_FOLDER && !found.folders.has(path))
      found.folders.set(path, { path, files: 0 });
    if (node.type !== 'file') continue;
    for (let depth = 1; depth < parts.length && depth <= DEEPEST_FOLDER; depth++) {
      const at = parts.slice(0, depth).join('/');
      const known = found.folders.get(at);
      if (known) found.folders.set(at, { ...known, files: known.files + 1 });
    }
    if (!TEXT.test(path) && !FORMATS.some(([, pattern]) => pattern.test(path))) continue;
    if (node.bytes > MOST_TEXT_BYTES || read > MOST_READ_BYTES) continue;
    const content = await contentOf(environment, realPath);
    read += content?.length ?? 0;
    if (!content) continue;
    if (hosts.some((host) => content.includes(host))) found.texts.push(path);
    const format = FORMATS.find(([, pattern]) => pattern.test(path))?.[0];
    const one = format && configurationOf(environment, root, path, format, content.toString('latin1'));
    if (one) found.configurations.push(one);
  }
}

async function contentOf(environment: Environment, path: ByteString): Promise<Buffer | undefined> {
  try {
    return await environment.server.readFile(path);
  } catch {
    // A file that goes away or is written all the time is no setting.
    return undefined;
  }
}

/** A settings file in which at least one value is a fact of the environment; others are content. */
function configurationOf(
  environment: Environment,
  root: string,
  file: string,
  format: SettingsFormat,
  content: ByteString,
): ConfigurationFacts | undefined {
  const pairs = settingsIn(content, format);
  const counts = new Map<string, number>();
  for (const { key } of pairs) counts.set(key, (counts.get(key) ?? 0) + 1);
  const keys = pairs
    .filter(({ key }) => counts.get(key) === 1)
    .map(({ key, value }) => ({ key, is: factOf(environment, root, key, value) }));
  return keys.some((one) => one.is) ? { file, format, keys } : undefined;
}

/** Which fact of the environment a value is. A port or a user's name is only taken for one where its key says so. */
function factOf({ place, databases }: Environment, root: string, key: string, value: string): SettingFact | undefined {
  if (value === '') return undefined;
  for (const address of place.addresses) {
    if (value.replace(/\/$/, '') === formatLocation(address).replace(/\/$/, ''))
      return { address: address.name, as: 'url' };
    if (value === address.host) return { address: address.name, as: 'host' };
  }
  const path = place.roots.find((one) => one.name === root)?.path;
  if (path !== undefined && value.replace(/\/$/, '') === toText(path)) return { root };
  for (const { name, login } of databases) {
    const part = partOf(login, key.toLowerCase(), value);
    if (part) return { database: name, part };
  }
  return undefined;
}

function partOf(
  { host, port, database, user, password }: DatabaseLogin,
  key: string,
  value: string,
): Extract<SettingFact, { part: string }>['part'] | undefined {
  if (value === password) return 'password';
  if (/^postgres(ql)?:\/\//.test(value) && value.includes(`/${database}`)) return 'url';
  const isOfDatabase = /(^|[._-])(db|database|pg|postgres|sql)/.test(key) || /(user|name|host|port)$/.test(key);
  if (!isOfDatabase) return undefined;
  // Name and user are often the same word: the key tells them apart.
  if (value === user && (/user|login/.test(key) || value !== database)) return 'user';
  if (value === database) return 'name';
  if (value === String(port) && /port/.test(key)) return 'port';
  return value === host && /host|server|addr/.test(key) ? 'host' : undefined;
}
