import { columnPlace, mentionPlace, placesOf } from './named-tables.js';
import { describesTable } from './rules.js';
import type { Profile } from './schema.js';

/** Two rules that cannot both be followed, or one that speaks of nothing. */
export interface Inconsistency {
  readonly path: PropertyKey[];
  readonly message: string;
}

/** What in a composed profile does not go together; paths are those of the composed document. */
export function inconsistencies(profile: Profile): Inconsistency[] {
  const found: Inconsistency[] = [];
  const unique = (list: string, names: readonly string[]): void => {
    const seen = new Set<string>();
    for (const [index, name] of names.entries()) {
      if (seen.has(name)) found.push({ path: [list, index, 'name'], message: `"${name}" is used twice` });
      seen.add(name);
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

  const known = (table: string): boolean =>
    placesOf(profile, table).some(({ database, label }) => describesTable(profile, database, label));
  for (const [index, reference] of (profile.references ?? []).entries()) {
    for (const end of ['from', 'to'] as const) {
      const { table } = columnPlace(reference[end]);
      if (!known(table))
        found.push({ path: ['references', index, end], message: `no table "${table}" is described in this profile` });
    }
  }
  for (const [index, mention] of (profile.mentions ?? []).entries()) {
    const { table } = mentionPlace(mention);
    if (!known(table))
      found.push({ path: ['mentions', index, 'in'], message: `no table "${table}" is described in this profile` });
  }
  for (const [index, item] of (profile.items ?? []).entries()) {
    if ('table' in item && !known(item.table))
      found.push({ path: ['items', index, 'table'], message: `no table "${item.table}" is described in this profile` });
    const named = 'table' in item ? item.changed?.name : undefined;
    if (named !== undefined && !known(columnPlace(named).table))
      found.push({
        path: ['items', index, 'changed', 'name'],
        message: `no table "${columnPlace(named).table}" is described in this profile`,
      });
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
