import type { Suggestion, TableFacts } from './facts.js';

/** A reference that a first profile could have, as it is written there. */
export interface ReferenceRule {
  readonly from: string;
  readonly to: string;
  readonly when?: Record<string, string[]>;
  readonly path?: string;
}

/** A share of the values looked up that tells a reference from chance. */
const MOST_FOUND = 0.98;
/** Fewer distinct values than this may all be found by chance. */
const ENOUGH = 5;

/** References that the database does not declare, as far as names and values tell. */
export function suggestReferences(tables: readonly TableFacts[]): Suggestion<ReferenceRule>[] {
  return tables.flatMap((table) =>
    table.lookups.map((one): Suggestion<ReferenceRule> => {
      const value = {
        from: `${table.name}.${one.column}`,
        to: `${one.table}.${one.target}`,
        ...(one.when ? { when: { [one.when.column]: [one.when.value] } } : {}),
        ...(one.path === undefined ? {} : { path: one.path }),
      };
      const where = one.path === undefined ? 'its name' : 'the member’s name';
      if ([table.name, one.column, one.table, one.target].some((name) => name.includes('.')))
        return {
          value,
          certainty: 'open',
          reason: 'a profile cannot name it: there is a dot in a name, or another schema',
        };
      if (one.asked === 0) return { value, certainty: 'open', reason: `${where} says so; there are no values to see` };
      const all = `${one.found} of ${one.asked} values are there`;
      if (one.found < one.asked * MOST_FOUND)
        return { value, certainty: 'open', reason: `${where} says so, but only ${all}` };
      return { value, certainty: one.asked >= ENOUGH ? 'sure' : 'likely', reason: `${where} says so, and ${all}` };
    }),
  );
}
