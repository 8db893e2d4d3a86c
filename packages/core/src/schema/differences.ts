/** How a table is made, as far as two environments can differ in it. Texts are the server's own. */
export interface TableMake {
  /** As its system writes it in statements. */
  readonly quoted: string;
  /** As profiles call it. */
  readonly label: string;
  readonly columns: readonly ColumnMake[];
  readonly constraints: readonly {
    readonly name: string;
    readonly definition: string;
    readonly columns: readonly string[];
    /** The table that a foreign key leads to, as profiles call it. */
    readonly refersTo: string | null;
  }[];
  /** But for those that belong to a constraint. */
  readonly indexes: readonly { readonly name: string; readonly definition: string; readonly isUnique: boolean }[];
}

/** How a column is made: what two sides are compared by, and what a new column needs. */
export interface ColumnMake {
  readonly name: string;
  readonly type: string;
  readonly isRequired: boolean;
  readonly default: string | null;
  /** What the default comes to, where it is the same for every row. */
  readonly fill: string | null;
  readonly hasConstantDefault: boolean;
  /** Of a counter that belongs to the column: how it is made. */
  readonly counter: string | null;
  readonly identity: 'always' | 'by default' | null;
  readonly generated: string | null;
}

/** Something that one side's tables have and the other's have not, or have otherwise. */
export interface SchemaDifference {
  /** `schema:product.colour`, `schema:coupon` or `schema:product/product_title_index`. */
  readonly id: string;
  readonly label: string;
  readonly what: 'column' | 'table' | 'index';
  readonly name: string;
  /** `added`: the source alone has it; `missing`: the destination alone; `unlike`: both, but otherwise. */
  readonly is: 'added' | 'missing' | 'unlike';
  /** Nobody has seen it yet, so that somebody must say whether the destination gets it. */
  readonly isNews: boolean;
  readonly source: string | null;
  readonly destination: string | null;
  /** What comes with taking it, or why it cannot be taken. */
  readonly entails: string;
  readonly canTake: boolean;
  /** What makes it at the destination, and what takes that away again while nothing else was written. */
  readonly statements: readonly string[];
  readonly revert: readonly string[];
  /** Of a column that both have: whether its values are written alike in both types, and compared. */
  readonly isReadAlike: boolean;
  /** An index is made beside the work of visitors, which no transaction can hold. */
  readonly isIndex: boolean;
}

/** What of a table both sides have seen: nothing of it is news. */
export interface KnownMake {
  readonly columns: ReadonlySet<string>;
}

/** What makes something, and what takes it away again. */
export type Making = Pick<SchemaDifference, 'statements' | 'revert'>;

/** How a system writes changes of tables in its own language. */
export interface SchemaMaking {
  /** A column of the source's table, with what holds for it alone, at the destination's. */
  addColumn(source: TableMake, column: ColumnMake, destination: TableMake): Making;
  addTable(table: TableMake): Making;
  /** An index, made beside the work of visitors. */
  addIndex(index: TableMake['indexes'][number], destination: TableMake): Making;
  /** Whether values are written alike in two types, whatever fits. */
  isWrittenAlike(type: string, other: string): boolean;
}

const describeColumn = ({ type, isRequired, default: value, generated }: ColumnMake): string =>
  [
    type,
    generated === null ? (isRequired ? 'not empty' : 'may be empty') : `always ${generated}`,
    ...(value === null || generated !== null ? [] : [`by default ${value}`]),
  ].join(', ');

/**
 * Compares how one table is made on both sides.
 *
 * @param rows how many the destination's table holds
 * @param known what the source's table had when the two last had it in common; undefined where they never had
 */
export function tableDifferences(
  source: TableMake,
  destination: TableMake,
  rows: number,
  known: KnownMake | undefined,
  making: SchemaMaking,
): SchemaDifference[] {
  const { label } = destination;
  const isReadAlike = (a: ColumnMake, b: ColumnMake): boolean =>
    a.generated === null && b.generated === null && making.isWrittenAlike(a.type, b.type);
  const found: SchemaDifference[] = [];
  for (const column of source.columns) {
    const own = destination.columns.find((one) => one.name === column.name);
    const on = {
      id: `schema:${label}.${column.name}`,
      label,
      what: 'column' as const,
      name: column.name,
      isReadAlike: false,
      isIndex: false,
    };
    if (!own)
      found.push({
        ...on,
        is: 'added',
        isNews: known?.columns.has(column.name) !== true,
        source: describeColumn(column),
        destination: null,
        ...addColumn(source, column, destination, rows, making),
      });
    else if (own.type !== column.type || own.generated !== column.generated)
      found.push({
        ...on,
        is: 'unlike',
        isNews: false,
        source: describeColumn(column),
        destination: describeColumn(own),
        entails: `A type is changed by a task of the site, which knows what becomes of the values. ${isReadAlike(column, own) ? 'They are compared, and what does not fit stops the transfer.' : 'Until then they are not compared.'}`,
        canTake: false,
        isReadAlike: isReadAlike(column, own),
        statements: [],
        revert: [],
      });
  }
  for (const column of destination.columns)
    if (!source.columns.some((one) => one.name === column.name))
      found.push({
        id: `schema:${label}.${column.name}`,
        label,
        what: 'column',
        name: column.name,
        is: 'missing',
        isNews: false,
        source: null,
        destination: describeColumn(column),
        entails: `The column and all its values stay. ${isFree(column) ? 'New rows get its default.' : 'It has no default, so that no new row can be written.'}`,
        canTake: false,
        statements: [],
        revert: [],
        isReadAlike: false,
        isIndex: false,
      });
  const indexes = new Set(destination.indexes.map((one) => one.definition));
  for (const index of source.indexes)
    if (!indexes.has(index.definition) && !destination.indexes.some((one) => one.name === index.name))
      found.push({
        id: `schema:${label}/${index.name}`,
        label,
        what: 'index',
        name: index.name,
        is: 'added',
        isNews: false,
        source: index.definition,
        destination: null,
        entails: index.isUnique
          ? 'It is made beside the work of visitors, and fails when two rows are alike in it.'
          : 'It is made beside the work of visitors.',
        canTake: true,
        ...making.addIndex(index, destination),
        isReadAlike: false,
        isIndex: true,
      });
  return found;
}

/** Whether new rows can be written without saying what the column holds. */
const isFree = (column: ColumnMake): boolean =>
  !column.isRequired || column.default !== null || column.identity !== null || column.generated !== null;

type Taking = Pick<SchemaDifference, 'entails' | 'canTake' | 'statements' | 'revert'>;

function addColumn(
  source: TableMake,
  column: ColumnMake,
  destination: TableMake,
  rows: number,
  making: SchemaMaking,
): Taking {
  const { label } = destination;
  const refused = (entails: string): Taking => ({ entails, canTake: false, statements: [], revert: [] });
  if (column.counter !== null || column.identity !== null)
    return refused('It draws its values from a counter: such a column is added by a task of the site.');
  const isEmpty = rows === 0;
  if (column.generated === null && column.isRequired && !column.hasConstantDefault && !isEmpty)
    return refused(
      `It must not be empty, and ${column.default === null ? 'has no default' : 'its default is another one for each row'}: the ${rows === 1 ? 'one row' : `${rows} rows`} of ${label} would have nothing in it. Give it a default, or let it be empty.`,
    );
  return {
    entails: `${label} gets the column${rows === 0 ? '' : column.hasConstantDefault ? `; its ${rows} rows get ${column.default}` : `; it is empty in its ${rows} rows`}. An undo does not take it away.`,
    canTake: true,
    ...making.addColumn(source, column, destination),
  };
}

/** A table that the source alone has. */
export function addedTable(table: TableMake, isNews: boolean, making: SchemaMaking): SchemaDifference {
  const { label, columns } = table;
  return {
    id: `schema:${label}`,
    label,
    what: 'table',
    name: label,
    is: 'added',
    isNews,
    source: columns.map((column) => `${column.name} ${column.type}`).join(', '),
    destination: null,
    entails: 'The table is made with its keys, indexes and counters. An undo does not take it away.',
    canTake: true,
    ...making.addTable(table),
    isReadAlike: false,
    isIndex: false,
  };
}
