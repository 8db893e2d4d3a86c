import type { ByteString } from '../address/place.js';
import { readLine, writeLine } from './copy-text.js';

/**
 * Turns rows of some columns into rows of others: columns that are not wanted go, those that are not there are filled.
 *
 * @param fill what a row holds in a column that it does not have
 * @returns undefined where nothing is to be done
 */
export function projection(
  from: readonly string[],
  to: readonly string[],
  fill: (column: string) => ByteString | null,
): ((lines: ByteString) => ByteString) | undefined {
  if (from.length === to.length && from.every((name, i) => name === to[i])) return undefined;
  const places = to.map((name) => from.indexOf(name));
  const fills = to.map((name, i) => (places[i] === -1 ? fill(name) : null));
  return (lines) => {
    let out = '';
    for (const line of lines.slice(0, -1).split('\n')) {
      const values = readLine(line);
      out += `${writeLine(places.map((at, i) => (at === -1 ? (fills[i] ?? null) : (values[at] ?? null))))}\n`;
    }
    return out;
  };
}
