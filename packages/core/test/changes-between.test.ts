import { changesBetween, imageChange, type MergeTable, rulesForTable, tableId } from '../src/index.js';
import { expect, it } from './support.js';

const name = { database: 'main', schema: 'public', name: 'odd' };
const columns = ['id', '__proto__', 'constructor', 'toString'];
const TABLE: MergeTable = {
  name,
  id: tableId(name),
  columns,
  key: ['id'],
  keyOrders: ['integer'],
  rules: rulesForTable(undefined, name, columns),
  uses: [],
  naturalKey: [],
  drawsKeys: true,
  hasBaseline: true,
  stamps: [],
  uniques: [],
};
const BEFORE = ['1', 'a', 'b', null];
const AFTER = ['1', 'x', 'y', 'z'];

it('changes columns of any name, such as those that every object has', () => {
  const [comes] = changesBetween(TABLE, undefined, AFTER);
  const [goes] = changesBetween(TABLE, BEFORE, undefined);
  const [changes] = changesBetween(TABLE, BEFORE, AFTER);
  const written = JSON.parse(JSON.stringify([comes, goes, changes]));
  expect(Object.entries(written[0].row)).toEqual(columns.map((column, i) => [column, AFTER[i]]));
  expect(Object.entries(written[1].row)).toEqual(columns.map((column, i) => [column, BEFORE[i]]));
  expect(Object.entries(written[2].cells)).toEqual(
    columns.slice(1).map((column, i) => [column, { before: BEFORE[i + 1], after: AFTER[i + 1] }]),
  );
  const image = imageChange({ table: TABLE, key: ['1'], values: AFTER });
  expect(image.op === 'insert' && Object.entries(image.row)).toEqual(columns.map((column, i) => [column, AFTER[i]]));
});

it('says nothing of a row that stays as it is, and replaces one that gets another key', () => {
  expect(changesBetween(TABLE, BEFORE, [...BEFORE])).toEqual([]);
  expect(changesBetween(TABLE, BEFORE, ['2', 'a', 'b', null]).map(({ op, key }) => [op, key])).toEqual([
    ['delete', ['1']],
    ['insert', ['2']],
  ]);
});
