import { Document, isMap, isNode, isSeq, type Node } from 'yaml';
import { addTo } from '../multimap.js';
import { plainIssue } from '../plain-issue.js';
import { inconsistencies } from './inconsistencies.js';
import { type Layer, mistakesOf, type ProfileMistake, sortByLine, writePath } from './layer.js';
import { type LayerDocument, type Profile, ProfileSchema } from './schema.js';

/** A layer with the name and version under which it is kept. */
export interface NamedLayer extends Layer {
  readonly name: string;
  readonly version: number;
}

/** A mistake, and the layer that it stands in. */
export interface LayerMistake extends ProfileMistake {
  readonly layer: string;
}

/** Where each rule of a composed profile comes from: layers by the rule's path, such as `databases.main.tables.page`. */
export type Origins = ReadonlyMap<string, readonly NamedLayer[]>;

/** A profile composed of its layers, with where each rule comes from, or every mistake in them. */
export type Composition =
  | { readonly ok: true; readonly profile: Profile; readonly origins: Origins }
  | { readonly ok: false; readonly mistakes: readonly LayerMistake[] };

type Section = 'areas' | 'references' | 'items' | 'mentions' | 'settings' | 'tasks' | 'pages';

/** By what two entries of a list are known to speak of the same thing. */
const IDENTITIES: { readonly [S in Section]: (entry: NonNullable<LayerDocument[S]>[number]) => string } = {
  areas: (area) => area.name,
  references: ({ from, when, path }) => JSON.stringify([from, when, path]),
  items: (item) => JSON.stringify([item.kind, 'table' in item ? item.table : item.files]),
  mentions: (one) => JSON.stringify([one.in, one.files]),
  settings: (setting) => setting.name,
  tasks: (task) => task.name,
  pages: ({ path, address }) => JSON.stringify([path, address]),
};

/** Where an entry of the composed document stands in its layer. */
interface Spot {
  readonly layer: NamedLayer;
  readonly path: readonly PropertyKey[];
}

/**
 * Composes a profile: a base, a part for each extension in use, and the lines of one's own, in this order. A later layer
 * replaces what an earlier one says of the same thing; of a table it replaces what it names, column by column.
 *
 * @param layers the last one is the profile's own and gives it its name and title
 */
export function composeLayers(layers: readonly NamedLayer[]): Composition {
  const own = layers.at(-1) as NamedLayer;
  const spots = new Map<string, Spot>();
  const origins = new Map<string, NamedLayer[]>();
  const composed: Record<string, unknown> = {
    tessarion: 'profile/1',
    name: own.document.name,
    title: own.document.title,
  };
  const note = (path: readonly PropertyKey[], spot: Spot): void => {
    const at = writePath(path);
    spots.set(at, spot);
    addTo(origins, at, spot.layer);
  };
  for (const section of Object.keys(IDENTITIES) as Section[]) {
    const entries = composeList(layers, section);
    if (entries.length === 0) continue;
    composed[section] = entries.map(({ entry }) => entry);
    for (const [i, { spot }] of entries.entries()) note([section, i], spot);
  }
  for (const key of ['links', 'editors'] as const)
    for (const layer of layers)
      if (layer.document[key] !== undefined) {
        composed[key] = layer.document[key];
        note([key], { layer, path: [key] });
      }
  const databases = composeDatabases(layers, note);
  if (Object.keys(databases).length > 0) composed.databases = databases;

  const lineOf = (path: readonly PropertyKey[]): { layer: string; line: number } => {
    for (let length = path.length; length > 0; length--) {
      const spot = spots.get(writePath(path.slice(0, length)));
      if (spot) return { layer: spot.layer.name, line: spot.layer.lineOf([...spot.path, ...path.slice(length)]) };
    }
    return { layer: own.name, line: own.lineOf(path) };
  };
  const parsed = ProfileSchema.safeParse(composed, { error: plainIssue });
  if (!parsed.success) {
    const found = parsed.error.issues.flatMap((issue) =>
      mistakesOf([issue], (path) => lineOf(path).line).map((one) => ({ ...one, layer: lineOf(issue.path).layer })),
    );
    return { ok: false, mistakes: found };
  }
  const found = inconsistencies(parsed.data).map(({ path, message }) => ({
    ...lineOf(path),
    path: writePath(path),
    message,
  }));
  return found.length > 0
    ? { ok: false, mistakes: sortByLine(found) as LayerMistake[] }
    : { ok: true, profile: parsed.data, origins };
}

function composeList(layers: readonly NamedLayer[], section: Section): { entry: unknown; spot: Spot }[] {
  const identify = IDENTITIES[section] as (entry: unknown) => string;
  const entries: { id: string; entry: unknown; spot: Spot }[] = [];
  for (const layer of layers) {
    for (const [i, entry] of (layer.document[section] ?? []).entries()) {
      const one = { id: identify(entry), entry, spot: { layer, path: [section, i] } };
      // Twice in one document is a mistake, which is found later.
      const at = entries.findIndex((known) => known.id === one.id && known.spot.layer !== layer);
      if (at === -1) entries.push(one);
      else entries[at] = one;
    }
  }
  return entries;
}

function composeDatabases(
  layers: readonly NamedLayer[],
  note: (path: readonly PropertyKey[], spot: Spot) => void,
): Record<string, { tables: Record<string, Record<string, unknown>> }> {
  const databases: Record<string, { tables: Record<string, Record<string, unknown>> }> = {};
  for (const layer of layers)
    for (const [database, { tables }] of Object.entries(layer.document.databases ?? {})) {
      databases[database] ??= { tables: {} };
      const composed = databases[database].tables;
      for (const [table, { columns, ...rule }] of Object.entries(tables)) {
        const path = ['databases', database, 'tables', table];
        const known = composed[table] ?? {};
        const all = { ...(known.columns as Record<string, unknown> | undefined), ...columns };
        composed[table] = { ...known, ...rule, ...(Object.keys(all).length > 0 ? { columns: all } : {}) };
        note(path, { layer, path });
        for (const column of Object.keys(columns ?? {}))
          note([...path, 'columns', column], { layer, path: [...path, 'columns', column] });
      }
    }
  return databases;
}

/** A composed profile as YAML, in which each rule says what layers it comes from. */
export function effectiveText(profile: Profile, origins: Origins): string {
  const document = new Document(profile);
  const said = (path: readonly PropertyKey[]): string | undefined => {
    const layers = origins.get(writePath(path));
    return layers && ` ${[...new Set(layers.map(({ name, version }) => `${name} ${version}`))].join(', ')}`;
  };
  const mark = (node: unknown, path: readonly PropertyKey[]): void => {
    if (isMap(node)) {
      for (const pair of node.items) {
        const key = String((pair.key as { value?: unknown } | null)?.value ?? pair.key);
        const comment = said([...path, key]);
        if (comment !== undefined && isNode(pair.key)) (pair.key as Node).commentBefore = comment;
        mark(pair.value, [...path, key]);
      }
    } else if (isSeq(node)) {
      for (const [i, item] of node.items.entries()) {
        const comment = said([...path, i]);
        if (comment !== undefined && isNode(item)) item.commentBefore = comment;
        mark(item, [...path, i]);
      }
    }
  };
  mark(document.contents, []);
  return document.toString({ lineWidth: 0 });
}
