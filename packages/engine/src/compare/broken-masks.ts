import { type BrokenMask, calledIn, keepsUnique, type Profile, rulesForTable } from '@tessarion/core';
import { plainUniques, readable, type SchemaShape } from '../ports/shapes.js';

/** Finds masks under which unique values would meet. */
export const masksThatBreak = (schema: SchemaShape, profile: Profile | undefined): BrokenMask[] =>
  schema.tables.flatMap((shape) => {
    const columns = readable(shape).map((column) => column.name);
    const rules = rulesForTable(profile, shape, columns);
    if (rules.class !== 'authored' && rules.class !== 'collected') return [];
    const masks = new Map(
      rules.columns.flatMap(({ name, mask }) => (mask && !keepsUnique(mask) ? [[name, mask]] : [])),
    );
    const uniques = [...plainUniques(shape), shape.key];
    // Where another column of the index stays as it is, it may well tell the rows apart: loading finds out.
    return uniques.flatMap((unique) =>
      unique.flatMap((column) => {
        const mask = masks.get(column);
        return mask && unique.every((one) => masks.has(one)) ? [{ table: calledIn(profile, shape), column, mask }] : [];
      }),
    );
  });
