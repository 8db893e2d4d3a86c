import { tablePath } from '@tessarion/core';
import type { TableShape } from './shapes.js';

/**
 * Orders tables so that those referred to come first. Tables that refer to one another in a circle stand in one
 * group (Tarjan's strongly connected components, which come out in this order by themselves).
 */
export function insertOrder(tables: readonly TableShape[]): TableShape[][] {
  const byName = new Map(tables.map((table) => [tablePath(table), table]));
  const state = new Map<string, { index: number; low: number; open: boolean }>();
  const stack: string[] = [];
  const groups: TableShape[][] = [];

  const visit = (name: string): { index: number; low: number; open: boolean } => {
    const own = { index: state.size, low: state.size, open: true };
    state.set(name, own);
    stack.push(name);
    for (const reference of byName.get(name)?.references ?? []) {
      const target = tablePath(reference.table);
      if (!byName.has(target)) continue;
      const seen = state.get(target);
      if (!seen) own.low = Math.min(own.low, visit(target).low);
      else if (seen.open) own.low = Math.min(own.low, seen.index);
    }
    if (own.low === own.index) {
      const members = stack.splice(stack.indexOf(name));
      for (const member of members) (state.get(member) as { open: boolean }).open = false;
      groups.push(members.map((member) => byName.get(member) as TableShape));
    }
    return own;
  };
  for (const name of byName.keys()) if (!state.has(name)) visit(name);
  return groups;
}
