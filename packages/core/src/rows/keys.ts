import type { ByteString } from '../address/place.js';

/** How a key column is ordered: integers by value, everything else by its bytes. */
export type KeyOrder = 'integer' | 'bytes';

/** A row's key: the values of its key columns in order. */
export type RowKey = readonly (ByteString | null)[];

/** Compares two keys in canonical order; nulls come last, as in PostgreSQL. */
export function compareKeys(a: RowKey, b: RowKey, orders: readonly KeyOrder[]): number {
  for (let i = 0; i < orders.length; i++) {
    const [left, right] = [a[i] ?? null, b[i] ?? null];
    if (left === right) continue;
    if (left === null) return 1;
    if (right === null) return -1;
    const order = orders[i] === 'integer' ? compareIntegers(left, right) : left < right ? -1 : 1;
    if (order !== 0) return order;
  }
  return 0;
}

function compareIntegers(a: ByteString, b: ByteString): number {
  // Without signs and leading zeros the longer one is larger, and of two equally long ones the later by its bytes.
  if (a.length !== b.length && isCounted(a) && isCounted(b)) return a.length - b.length;
  if (a.length === b.length && isCounted(a) && isCounted(b)) return a < b ? -1 : a > b ? 1 : 0;
  const [x, y] = [Number(a), Number(b)];
  if (Number.isSafeInteger(x) && Number.isSafeInteger(y)) return x - y;
  const [big, other] = [BigInt(a), BigInt(b)];
  return big < other ? -1 : big > other ? 1 : 0;
}

const isCounted = (value: ByteString): boolean => {
  const first = value.charCodeAt(0);
  return first > 48 && first <= 57;
};
