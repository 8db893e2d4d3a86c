import { Document, isCollection, type Node, type Scalar, YAMLMap, YAMLSeq } from 'yaml';
import type { ColumnRule, DataClass } from '../schema.js';
import { suggestClasses } from './classes.js';
import { suggestCounters, suggestMasks } from './columns.js';
import type { Certainty, SiteFacts, Suggestion, TableFacts } from './facts.js';
import { suggestAreas, suggestSettings } from './files.js';
import { suggestItems, suggestNaturalKey } from './items.js';
import { suggestReferences } from './references.js';

/** What a first profile says of one thing, why, and how sure that is; `open` things are left for a person. */
export interface Finding {
  /** Such as `table purchase_line` or `column customer.email`. */
  readonly what: string;
  readonly says: string;
  readonly certainty: Certainty;
  readonly reason: string;
}

/** A first profile for a site that has none, and what it was made of. */
export interface StartedProfile {
  /** A profile document; what is open stands in it as a comment. */
  readonly text: string;
  readonly findings: readonly Finding[];
}

const WORDS: Record<Certainty, string> = { sure: 'sure', likely: 'likely', open: 'open' };

/** Writes a first profile out of what was seen of a site. Whatever is uncertain stays unclassified. */
export function startProfile(name: string, title: string, facts: SiteFacts): StartedProfile {
  const findings: Finding[] = [];
  const document = new Document(new YAMLMap());
  const root = document.contents as unknown as YAMLMap;
  const node = (value: unknown, isFlow = true): Node => document.createNode(value, { flow: isFlow }) as Node;
  const note = (target: Node | Scalar, one: Pick<Suggestion<unknown>, 'certainty' | 'reason'>): void => {
    target.commentBefore = ` ${WORDS[one.certainty]}: ${one.reason}`;
  };
  const tell = (what: string, says: string, one: Pick<Suggestion<unknown>, 'certainty' | 'reason'>): void => {
    findings.push({ what, says, certainty: one.certainty, reason: one.reason });
  };
  const add = (
    map: YAMLMap,
    key: string,
    value: unknown,
    one?: Pick<Suggestion<unknown>, 'certainty' | 'reason'>,
  ): void => {
    const scalar = document.createNode(key) as Scalar;
    if (one) note(scalar, one);
    map.add(document.createPair(scalar, value));
  };
  const list = (
    values: readonly { readonly value: object; readonly one: Pick<Suggestion<unknown>, 'certainty' | 'reason'> }[],
  ) => {
    const seq = new YAMLSeq();
    for (const { value, one } of values) {
      const entry = node(value);
      note(entry, one);
      seq.add(entry);
    }
    return seq;
  };
  add(root, 'tessarion', 'profile/1');
  add(root, 'name', name);
  add(root, 'title', title);

  const areas = suggestAreas(facts.folders, facts.texts);
  for (const one of areas) tell(`area ${one.value.path}`, one.value.class, one);
  add(root, 'areas', list(areas.map((one) => ({ value: one.value, one }))));

  const databases = new YAMLMap();
  const references = [];
  const items = [];
  for (const { name: database, tables } of facts.databases) {
    const classes = suggestClasses(tables);
    const found = suggestReferences(tables);
    references.push(...found);
    items.push(...suggestItems(tables, classes, found));
    const map = new YAMLMap();
    for (const table of tables) {
      const one = classes.get(table.name) as Suggestion<DataClass>;
      tell(`table ${table.name}`, one.value, one);
      add(map, table.name, tableNode(table, one.value, document, note, tell), one);
    }
    const holder = new YAMLMap();
    add(holder, 'tables', map);
    add(databases, database, holder);
  }
  add(root, 'databases', databases);

  const known = references.filter((one) => one.certainty !== 'open');
  for (const one of references)
    tell(`reference ${one.value.from}${one.value.path === undefined ? '' : ` ${one.value.path}`}`, one.value.to, one);
  if (known.length > 0) add(root, 'references', list(known.map((one) => ({ value: one.value, one }))));
  for (const one of items) tell(`item ${one.value.kind}`, `${one.value.table}, by ${one.value.title}`, one);
  if (items.length > 0) add(root, 'items', list(items.map((one) => ({ value: one.value, one }))));

  const { settings, open } = suggestSettings(facts.configurations);
  for (const one of settings) tell(`setting ${one.value.in.file} ${one.value.in.key}`, one.value.name, one);
  for (const one of open) tell(`setting ${one.file} ${one.key}`, 'nothing', { certainty: 'open', reason: one.reason });
  if (settings.length > 0) add(root, 'settings', list(settings.map((one) => ({ value: one.value, one }))));

  const left = findings.filter((one) => one.certainty === 'open');
  const count = (certainty: Certainty): number => findings.filter((one) => one.certainty === certainty).length;
  document.commentBefore = [
    ` A first profile, out of what was seen: ${count('sure')} rules sure, ${count('likely')} likely, ${left.length} left open.`,
    ' Read it before it is used; what is open is yours to decide:',
    ...left.map((one) => `   ${one.what}: ${one.reason}`),
  ].join('\n');
  for (const pair of root.items) if (isCollection(pair.value)) (pair.key as Scalar).spaceBefore = true;
  return { text: document.toString({ lineWidth: 0 }), findings };
}

type Note = (target: Node | Scalar, one: Pick<Suggestion<unknown>, 'certainty' | 'reason'>) => void;
type Tell = (what: string, says: string, one: Pick<Suggestion<unknown>, 'certainty' | 'reason'>) => void;

const STAFF = /(^|_)(editor|admin|administrator|staff|operator)s?$/;

function tableNode(table: TableFacts, dataClass: DataClass, document: Document, note: Note, tell: Tell): Node {
  const isStaff = STAFF.test(table.name.toLowerCase());
  const columns = new Map<string, Suggestion<ColumnRule>>();
  if (dataClass === 'authored') for (const [name, one] of suggestCounters(table)) columns.set(name, one);
  for (const [name, one] of suggestMasks(table, dataClass, isStaff)) columns.set(name, one);
  const natural = dataClass === 'authored' ? suggestNaturalKey(table) : undefined;
  const map = new YAMLMap();
  const add = (key: string, value: unknown): Scalar => {
    const scalar = document.createNode(key) as Scalar;
    map.add(document.createPair(scalar, value));
    return scalar;
  };
  add('class', document.createNode(dataClass));
  if (natural) {
    note(add('natural-key', document.createNode(natural.value, { flow: true })), natural);
    tell(`natural key of ${table.name}`, natural.value.join(', '), natural);
  }
  if (isStaff && table.key[0] !== undefined) {
    const staff = {
      certainty: 'likely',
      reason: 'these are your own people, who keep their logins in a copy',
    } as const;
    note(add('staff', document.createNode({ [table.key[0]]: ['*'] }, { flow: true })), staff);
    tell(`staff of ${table.name}`, 'all', staff);
  }
  const rules = new YAMLMap();
  for (const [name, one] of columns) {
    tell(`column ${table.name}.${name}`, JSON.stringify(one.value), one);
    if (one.certainty === 'open') continue;
    const scalar = document.createNode(name) as Scalar;
    note(scalar, one);
    rules.add(document.createPair(scalar, document.createNode(one.value, { flow: true })));
  }
  if (rules.items.length > 0) add('columns', rules);
  else if (!natural && !isStaff) map.flow = true;
  return map;
}
