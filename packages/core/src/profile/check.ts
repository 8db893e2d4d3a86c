import { isMap, isScalar, isSeq, LineCounter, type Node, parseDocument } from 'yaml';
import { type Profile, ProfileSchema } from './schema.js';

/** One thing that is wrong with a profile document. */
export interface ProfileMistake {
  /** 1-based line in the document. */
  readonly line: number;
  /** Where in the document, such as `settings[2].in.format`. */
  readonly path: string;
  readonly message: string;
}

export type ProfileCheck =
  | { readonly ok: true; readonly profile: Profile }
  | { readonly ok: false; readonly mistakes: readonly ProfileMistake[] };

/** Reads a profile from YAML and names every mistake with its line. */
export function checkProfile(text: string): ProfileCheck {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: true, strict: true });
  if (document.errors.length > 0) {
    const mistakes = document.errors.map((error) => ({
      line: lines.linePos(error.pos[0]).line,
      path: '',
      message: (error.message.split('\n')[0] ?? error.code).replace(/ at line \d+, column \d+:?$/, ''),
    }));
    return { ok: false, mistakes };
  }
  const at = (path: readonly PropertyKey[]): number => lineOf(document.contents, path, lines);
  const mistake = (path: readonly PropertyKey[], message: string): ProfileMistake => ({
    line: at(path),
    path: writePath(path),
    message,
  });

  const parsed = ProfileSchema.safeParse(document.toJS());
  if (!parsed.success) {
    const mistakes = parsed.error.issues.flatMap((issue): ProfileMistake[] => {
      if (issue.code === 'unrecognized_keys')
        return issue.keys.map((key) => mistake([...issue.path, key], `"${key}" is not a key that is known here`));
      if (issue.code === 'invalid_union') {
        const closest = [...issue.errors].sort((a, b) => a.length - b.length)[0] ?? [];
        return closest.map((inner) => mistake([...issue.path, ...inner.path], inner.message));
      }
      return [mistake(issue.path, issue.message)];
    });
    return { ok: false, mistakes: sortByLine(mistakes) };
  }
  const mistakes = inconsistencies(parsed.data).map((one) => mistake(one.path, one.message));
  return mistakes.length > 0 ? { ok: false, mistakes: sortByLine(mistakes) } : { ok: true, profile: parsed.data };
}

const sortByLine = (mistakes: readonly ProfileMistake[]): ProfileMistake[] =>
  [...mistakes].sort((a, b) => a.line - b.line);

interface Inconsistency {
  readonly path: PropertyKey[];
  readonly message: string;
}

function inconsistencies(profile: Profile): Inconsistency[] {
  const found: Inconsistency[] = [];
  const unique = (list: string, names: readonly string[]): void => {
    for (const [index, name] of names.entries()) {
      if (names.indexOf(name) !== index)
        found.push({ path: [list, index, 'name'], message: `"${name}" is used twice` });
    }
  };
  unique(
    'areas',
    profile.areas.map((area) => area.name),
  );
  unique(
    'settings',
    (profile.settings ?? []).map((setting) => setting.name),
  );
  unique(
    'tasks',
    (profile.tasks ?? []).map((task) => task.name),
  );
  const paths = profile.areas.map((area) => area.path);
  for (const [index, path] of paths.entries()) {
    if (paths.indexOf(path) !== index)
      found.push({ path: ['areas', index, 'path'], message: `two areas have the path "${path}"` });
  }
  if (!paths.includes('.'))
    found.push({ path: ['areas'], message: 'one area must have the path ".", so that every file belongs to one' });

  const tables = new Set(Object.values(profile.databases ?? {}).flatMap((database) => Object.keys(database.tables)));
  const known = (table: string): boolean => [...tables].some((pattern) => matchesName(pattern, table));
  for (const [index, reference] of (profile.references ?? []).entries()) {
    for (const end of ['from', 'to'] as const) {
      const table = reference[end].split('.')[0] as string;
      if (!known(table))
        found.push({ path: ['references', index, end], message: `no table "${table}" is described in this profile` });
    }
  }
  for (const [index, item] of (profile.items ?? []).entries()) {
    if ('table' in item && !known(item.table))
      found.push({ path: ['items', index, 'table'], message: `no table "${item.table}" is described in this profile` });
  }
  for (const [index, setting] of (profile.settings ?? []).entries()) {
    if (setting.secret && setting.values)
      found.push({
        path: ['settings', index, 'values'],
        message: 'a profile never holds a secret: take it "from" the environment',
      });
    if (setting.from && 'database' in setting.from && !profile.databases?.[setting.from.database]) {
      found.push({
        path: ['settings', index, 'from', 'database'],
        message: `no database "${setting.from.database}" is described in this profile`,
      });
    }
  }
  return found;
}

/** Tells whether a name pattern (`*` stands for any text) covers a name. */
export function matchesName(pattern: string, name: string): boolean {
  if (!pattern.includes('*')) return pattern === name;
  const parts = pattern.split('*').map((part) => part.replace(/[.+?^${}()|[\]\\]/g, '\\$&'));
  return new RegExp(`^${parts.join('.*')}$`).test(name);
}

function writePath(path: readonly PropertyKey[]): string {
  return path
    .map((part) => (typeof part === 'number' ? `[${part}]` : `.${String(part)}`))
    .join('')
    .replace(/^\./, '');
}

function lineOf(root: Node | null, path: readonly PropertyKey[], lines: LineCounter): number {
  let node: Node | null | undefined = root;
  let offset = root?.range?.[0] ?? 0;
  for (const part of path) {
    if (isMap(node)) {
      const pair = node.items.find(
        (candidate) => isScalar(candidate.key) && String(candidate.key.value) === String(part),
      );
      if (!pair) break;
      offset = (pair.key as Node).range?.[0] ?? offset;
      node = pair.value as Node | null;
    } else if (isSeq(node)) {
      node = node.items[Number(part)] as Node | undefined;
      offset = node?.range?.[0] ?? offset;
    } else {
      break;
    }
  }
  return lines.linePos(offset).line;
}
