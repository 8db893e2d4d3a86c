import { type Comparison, type RowOutcome, tableId } from '@tessarion/core';
import { protectingReferences } from '../site/protecting-references.js';
import type { ComparisonPlan } from './plan.js';
import type { DatabaseStanding, TableStanding } from './standing.js';
import type { DatabaseEnds, ReadTable } from './tables.js';

/** When the databases of both ends were read; a snapshot stays what it is. */
export function databaseStandings(
  { source, destination, direction }: ComparisonPlan,
  ends: readonly DatabaseEnds[],
  read: readonly ReadTable[],
  { outcomes }: Comparison,
): DatabaseStanding[] {
  const all = ends.flatMap(({ view }) => view.schema.tables);
  // What goes may only go as long as nothing new refers to it.
  const going = new Set(outcomes.flatMap((one) => (goes(one) ? [one.table.id] : [])));
  const referring = direction === 'down' ? [] : all.filter((shape) => going.has(tableId(shape)));
  const protecting = new Set(
    referring.flatMap((shape) => protectingReferences(destination.profile, all, shape).map(({ table }) => table)),
  );
  const known = [...read, ...ends.flatMap(({ counted }) => counted)];
  return ends.flatMap(({ name, moments, view, source: from }) => {
    const tablesOf = (environment: string): TableStanding[] =>
      known.flatMap(({ environment: of, shape, rows }) =>
        of === environment && shape.database === name ? [{ shape, rows }] : [],
      );
    const own = {
      environment: destination.path,
      database: name,
      moment: moments.own,
      shapes: view.schema.tables,
      tables: [
        ...tablesOf(destination.path),
        ...[...protecting].flatMap((shape) => (shape.database === name ? [{ shape, rows: undefined }] : [])),
      ],
    };
    if ('snapshot' in source || !from.view) return [own];
    const { path } = source.environment;
    const theirs = { environment: path, database: name, moment: moments.source, shapes: from.view.schema.tables };
    return [own, { ...theirs, tables: tablesOf(path) }];
  });
}

const goes = ({ decision, sides }: RowOutcome): boolean =>
  decision.is === 'deleted' || (decision.is === 'colliding' && !sides.source);
