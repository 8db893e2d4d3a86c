import { addedTable, type ColumnMake, projection, type TableMake, tableDifferences } from '@tessarion/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { postgresMaking } from '../src/postgres/making.js';

const column = (name: string, more: Partial<ColumnMake> = {}): ColumnMake => ({
  name,
  type: 'text',
  isRequired: false,
  default: null,
  fill: null,
  hasConstantDefault: false,
  counter: null,
  identity: null,
  generated: null,
  ...more,
});
const table = (columns: ColumnMake[], more: Partial<TableMake> = {}): TableMake => ({
  quoted: '"public"."product"',
  label: 'product',
  columns,
  constraints: [],
  indexes: [],
  ...more,
});
const one = (source: TableMake, destination: TableMake, rows = 3, known?: string[]) =>
  tableDifferences(source, destination, rows, known && { columns: new Set(known) }, postgresMaking);

describe('tables that are made otherwise', () => {
  const base = table([column('id'), column('title')]);

  it('differ in nothing when they are alike, in whatever order', () => {
    expect(one(table([column('title'), column('id')]), base)).toEqual([]);
  });

  it('may get a column that rows can hold: empty, by default, computed, or where there are none', () => {
    const taking = (more: Partial<ColumnMake>, rows = 3) => {
      const [found] = one(table([...base.columns, column('care', more)]), base, rows);
      return [
        found?.canTake,
        found?.statements[0]?.replace('ALTER TABLE "public"."product" ADD COLUMN IF NOT EXISTS ', ''),
      ];
    };
    expect(taking({})).toEqual([true, '"care" text']);
    expect(taking({ isRequired: true, default: "'x'::text", hasConstantDefault: true })).toEqual([
      true,
      `"care" text DEFAULT 'x'::text NOT NULL`,
    ]);
    expect(taking({ generated: 'upper(title)', isRequired: true })).toEqual([
      true,
      '"care" text GENERATED ALWAYS AS (upper(title)) STORED',
    ]);
    expect(taking({ isRequired: true })).toEqual([false, undefined]);
    expect(taking({ isRequired: true }, 0)).toEqual([true, '"care" text NOT NULL']);
    expect(taking({ isRequired: true, default: 'now()' })).toEqual([false, undefined]);
    expect(taking({ default: 'now()' })).toEqual([true, '"care" text']);
    expect(taking({ default: "nextval('s'::regclass)", counter: 'CREATE SEQUENCE IF NOT EXISTS public.s' })).toEqual([
      false,
      undefined,
    ]);
  });

  it('ask about what is new, once, and never take away what the destination alone has', () => {
    const wider = table([...base.columns, column('care')]);
    expect(one(wider, base)[0]).toMatchObject({ id: 'schema:product.care', is: 'added', isNews: true });
    expect(one(wider, base, 3, ['id', 'title', 'care'])[0]).toMatchObject({ isNews: false });
    expect(one(base, wider)).toEqual([
      expect.objectContaining({ is: 'missing', isNews: false, canTake: false, statements: [] }),
    ]);
    const [typed] = one(table([column('id'), column('title', { type: 'integer' })]), base);
    expect(typed).toMatchObject({ is: 'unlike', canTake: false, source: expect.stringContaining('integer') });
    const index = {
      name: 'i',
      definition: 'CREATE UNIQUE INDEX i ON public.product USING btree (title)',
      isUnique: true,
    };
    expect(one(table([...base.columns], { indexes: [index] }), base)[0]).toMatchObject({
      isIndex: true,
      isNews: false,
      statements: ['CREATE UNIQUE INDEX CONCURRENTLY IF NOT EXISTS i ON public.product USING btree (title)'],
    });
  });

  it('are made whole where the destination has none: counters first, foreign keys last', () => {
    const made = addedTable(
      table(
        [
          column('id', {
            type: 'integer',
            isRequired: true,
            default: "nextval('public.swatch_id_seq'::regclass)",
            counter: 'CREATE SEQUENCE IF NOT EXISTS public.swatch_id_seq AS integer INCREMENT 1',
          }),
          column('of', { type: 'integer' }),
        ],
        {
          constraints: [
            {
              name: 'f',
              definition: 'FOREIGN KEY (of) REFERENCES public.product(id)',
              columns: ['of'],
              refersTo: 'product',
            },
            { name: 'p', definition: 'PRIMARY KEY (id)', columns: ['id'], refersTo: null },
          ],
        },
      ),
      true,
      postgresMaking,
    );
    expect(made.statements.map((text) => text.slice(0, 46))).toEqual([
      'CREATE SEQUENCE IF NOT EXISTS public.swatch_id',
      'CREATE TABLE IF NOT EXISTS "public"."product" ',
      'ALTER SEQUENCE public.swatch_id_seq OWNED BY "',
      'ALTER TABLE "public"."product" ADD CONSTRAINT ',
      'ALTER TABLE "public"."product" ADD CONSTRAINT ',
    ]);
    expect(made.statements.at(-1)).toContain('FOREIGN KEY');
    expect(made.revert).toEqual([
      'DROP TABLE IF EXISTS "public"."product"',
      'DROP SEQUENCE IF EXISTS public.swatch_id_seq',
    ]);
  });

  it('have their rows read in common columns: there and back loses only what is not common', () => {
    const value = fc.option(
      fc.stringMatching(/^[a-z\\]{0,3}$/).map((text) => text.replaceAll('\\', '\\\\')),
      { nil: '\\N' },
    );
    fc.assert(
      fc.property(fc.array(fc.tuple(value, value, value), { minLength: 1 }), (rows) => {
        const lines = `${rows.map((row) => row.join('\t')).join('\n')}\n`;
        const there = projection(['a', 'b', 'c'], ['c', 'a', 'd'], () => 'x');
        const back = projection(['c', 'a', 'd'], ['a', 'c'], () => null);
        const expected = `${rows.map(([a, , c]) => `${a}\t${c}`).join('\n')}\n`;
        expect(back?.(there?.(lines) ?? '')).toBe(expected);
        expect(there?.(lines).split('\n')[0]?.split('\t')[2]).toBe('x');
        expect(projection(['a'], ['a'], () => null)).toBeUndefined();
      }),
    );
  });
});
