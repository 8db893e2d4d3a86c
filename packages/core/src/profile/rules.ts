import type { ByteString } from '../address/place.js';
import { compilePattern, matchesPath } from '../pattern.js';
import { compileCondition } from '../rows/condition.js';
import type { ColumnTreatment } from '../rows/line-rewriter.js';
import { type TableName, tableLabel } from '../table-name.js';
import type { AreaRule, ColumnRule, DataClass, MaskRule, Profile, TableRule } from './schema.js';

/** What the profile says of one table, worked out for the columns that the table really has. */
export interface TableRules {
  readonly class: DataClass;
  readonly columns: readonly ColumnRules[];
  /** The class of a row: that of the first row group it belongs to, else the table's. */
  readonly classOf: (row: readonly (ByteString | null)[]) => DataClass;
  /** True where some rows have another class than the table. */
  readonly hasRowGroups: boolean;
  /** Rows of staff accounts, which keep their logins. */
  readonly isStaff: (row: readonly (ByteString | null)[]) => boolean;
  readonly key: readonly string[] | undefined;
  readonly naturalKey: readonly string[] | undefined;
}

/** What a profile says of a column, with everything that it leaves out filled in. */
export interface ColumnRules extends ColumnTreatment {
  readonly class: DataClass;
  readonly mask: MaskRule | undefined;
  /** True where a root path in this column stops a copy rather than being rewritten. */
  readonly refusesPaths: boolean;
  /** True where a value that both sides changed is merged member by member. */
  readonly mergesMembers: boolean;
}

const PROTECTION: readonly DataClass[] = ['authored', 'derived', 'unclassified', 'collected', 'local'];

/** The more protective of two classes: the one that lets less travel. */
export const mostProtective = (a: DataClass, b: DataClass): DataClass =>
  PROTECTION.indexOf(a) > PROTECTION.indexOf(b) ? a : b;

/**
 * Finds the rules for a table: its own entry, else the longest name pattern that covers it, else none, in which case
 * the table is unclassified.
 */
export function rulesForTable(profile: Profile | undefined, table: TableName, columns: readonly string[]): TableRules {
  const rule = tableRule(profile, table.database, tableLabel(table));
  const tableClass = rule?.class ?? 'unclassified';
  const groups = (rule?.rows ?? []).map((group) => ({
    class: group.class,
    holds: compileCondition(group.when, columns),
  }));
  const staff = rule?.staff ? compileCondition(rule.staff, columns) : () => false;
  return {
    class: tableClass,
    columns: columns.map((name) => columnRules(name, tableClass, ruleOfColumn(rule, name))),
    classOf: (row) => groups.find((group) => group.holds(row))?.class ?? tableClass,
    hasRowGroups: groups.length > 0,
    isStaff: staff,
    key: rule?.key,
    naturalKey: rule?.['natural-key'],
  };
}

/**
 * What the profile says of a table: its own entry, else the longest name pattern that covers it.
 *
 * @param label {@link tableLabel}
 */
export function tableRule(profile: Profile | undefined, database: string, label: string): TableRule | undefined {
  const tables = profile?.databases?.[database]?.tables ?? {};
  const pattern = bestPattern(Object.keys(tables), label);
  return pattern === undefined ? undefined : tables[pattern];
}

/** Whether the profile says anything of a table by that name in a database. */
export const describesTable = (profile: Profile | undefined, database: string, label: string): boolean =>
  tableRule(profile, database, label) !== undefined;

/** What a table's entry says of a column, likewise. */
export function ruleOfColumn(rule: TableRule | undefined, column: string): ColumnRule | undefined {
  const pattern = bestPattern(Object.keys(rule?.columns ?? {}), column);
  return pattern === undefined ? undefined : rule?.columns?.[pattern];
}

function bestPattern(patterns: readonly string[], name: string): string | undefined {
  if (patterns.includes(name)) return name;
  return patterns.filter((pattern) => compilePattern(pattern)(name)).sort((a, b) => b.length - a.length)[0];
}

function columnRules(name: string, tableClass: DataClass, rule: ColumnRule | undefined): ColumnRules {
  return {
    name,
    class: rule?.class ?? tableClass,
    rewrite: rule?.rewrite !== 'never',
    reach: { bareHosts: rule?.['bare-hosts'] ?? false, rootPaths: rule?.paths === 'rewrite' },
    mask: rule?.personal,
    refusesPaths: rule?.paths !== 'rewrite',
    mergesMembers: rule?.merge === 'members',
  };
}

/** Which area a file belongs to: the one with the longest path that holds it. */
export function areaOf(areas: readonly AreaRule[], path: string): AreaRule {
  const holding = areas.filter((area) => area.path === '.' || path === area.path || path.startsWith(`${area.path}/`));
  const longest = holding.sort((a, b) => depth(b.path) - depth(a.path))[0];
  if (!longest) throw new Error('A profile always has an area for ".".');
  return longest;
}

const depth = (path: string): number => (path === '.' ? 0 : path.length);

/** Tells whether a file's text is rewritten: the profile names it in its area (`*` any text but a slash, `**` any). */
export function isRewrittenText(area: AreaRule, path: string): boolean {
  return (area.text ?? []).some((pattern) => matchesPath(pattern, path));
}
