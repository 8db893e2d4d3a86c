import { once } from 'node:events';
import { stripVTControlCharacters } from 'node:util';
import Table from 'cli-table3';
import { DateTime } from 'luxon';

const useColour = process.stdout.isTTY === true && process.env.NO_COLOR === undefined;
const isAscii =
  process.env.TESSARION_ASCII !== undefined ||
  !/utf-?8/i.test(process.env.LC_ALL ?? process.env.LC_CTYPE ?? process.env.LANG ?? 'utf-8');

const paint =
  (code: string) =>
  (text: string): string =>
    useColour ? `\u001b[${code}m${text}\u001b[0m` : text;

export const bold = paint('1');
export const dim = paint('2');
const red = paint('31');
const KIND_COLOUR = { live: paint('94'), staging: paint('33'), dev: paint('36') } as const;
const LETTER = { live: 'L', staging: 'S', dev: 'D' } as const;
const GLYPHS = { 'in-step': '■', drifted: '◣', working: '▄', failed: '⊠', frozen: '▣', 'not-reached': '□' } as const;
const ASCII_GLYPHS = {
  'in-step': '=',
  drifted: '/',
  working: '%',
  failed: '!',
  frozen: '*',
  'not-reached': '?',
} as const;

/** The tile of an environment in a terminal: letter, and a glyph for its state. */
export function tile(kind: keyof typeof LETTER, state: keyof typeof GLYPHS): string {
  const text = LETTER[kind] + (isAscii ? ASCII_GLYPHS : GLYPHS)[state];
  return state === 'failed' ? red(text) : KIND_COLOUR[kind](text);
}

/** What the glyphs of some states mean, for the foot of a list. */
export const legend = (states: Iterable<keyof typeof GLYPHS>): string =>
  [...states].map((state) => `${(isAscii ? ASCII_GLYPHS : GLYPHS)[state]} ${state.replaceAll('-', ' ')}`).join('   ');

export const arrow = isAscii ? '->' : '→';

/** A bar of 40 tiles. */
export function bar(share: number): string {
  const done = Math.round(Math.min(1, Math.max(0, share)) * 40);
  return (isAscii ? '#' : '■').repeat(done) + (isAscii ? '.' : '□').repeat(40 - done);
}

/** Set once whoever read has gone (`| head`): that is no failure, and ends nothing that was begun. */
let isUnread = false;
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error;
  isUnread = true;
});

export function print(text = ''): void {
  if (!isUnread) process.stdout.write(`${text}\n`);
}

/** The most that stands in a line of sentences. */
const LINE = 100;

/** Sentences, broken between words where the line ends; a word that is longer stands in one of its own. */
export function wrap(text: string, columns: number | undefined): string {
  const width = Math.min(LINE, columns || LINE);
  const lines: string[] = [];
  for (const word of text.split(' ')) {
    const last = lines.at(-1);
    if (last === undefined || stripVTControlCharacters(`${last} ${word}`).length > width) lines.push(word);
    else lines[lines.length - 1] = `${last} ${word}`;
  }
  return lines.join('\n');
}

/** Prints sentences in lines of at most 100 columns. */
export const say = (text: string): void => print(wrap(text, process.stdout.columns));

/** Tells beside the output how things go: in lines of at most 100 columns on a terminal, whole where a program reads on. */
export const tell = (text: string): void =>
  void process.stderr.write(`${process.stderr.isTTY ? wrap(text, process.stderr.columns) : text}\n`);

/** Writes text as it comes, no faster than whoever reads it, and as long as somebody does. */
export async function writeOut(pieces: AsyncIterable<string>): Promise<void> {
  for await (const piece of pieces) {
    if (isUnread) return;
    if (!process.stdout.write(piece))
      await Promise.race([once(process.stdout, 'drain'), once(process.stdout, 'close')]);
  }
}

/** One document. A list has one shape, whether it is read in pages or whole. */
export function printJson(value: unknown): void {
  print(JSON.stringify(Array.isArray(value) ? { items: value, next: null } : value, null, 2));
}

const WIDTH = 100;
const GAP = 2;

/** How wide a column may be so that the table fits: what is over is taken from the column that may be cut. */
function roomFor(column: number, head: readonly string[], rows: readonly (readonly string[])[]): number {
  // An empty column is drawn one wide.
  const widest = (i: number): number =>
    Math.max(1, ...[head, ...rows].map((row) => [...stripVTControlCharacters(row[i] ?? '')].length));
  const others = head.reduce((sum, _one, i) => (i === column ? sum : sum + widest(i) + GAP), 0);
  return Math.max(head[column]?.length ?? 0, 8, WIDTH - others);
}

/**
 * A table without frames that fits 100 columns; numbers stand right.
 *
 * @param right columns that stand right
 * @param flexible the column that is cut where the table would be too wide
 */
export function printTable(
  head: readonly string[],
  given: readonly (readonly string[])[],
  right: readonly number[] = [],
  flexible?: number,
): void {
  const room = flexible === undefined ? undefined : roomFor(flexible, head, given);
  const rows =
    room === undefined ? given : given.map((row) => row.map((cell, i) => (i === flexible ? cut(cell, room) : cell)));
  const border = {
    top: '',
    'top-mid': '',
    'top-left': '',
    'top-right': '',
    bottom: '',
    'bottom-mid': '',
    'bottom-left': '',
    'bottom-right': '',
    left: '',
    'left-mid': '',
    mid: '',
    'mid-mid': '',
    right: '',
    'right-mid': '',
    middle: '  ',
  };
  const table = new Table({
    head: head.map((one) => dim(one)),
    chars: border,
    style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [], compact: true },
    colAligns: head.map((_one, i) => (right.includes(i) ? 'right' : 'left')),
  });
  for (const row of rows) table.push([...row]);
  print(table.toString().replace(/ +$/gm, ''));
}

export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  const units = ['kB', 'MB', 'GB', 'TB'];
  let value = bytes;
  let unit = 'B';
  for (const next of units) {
    if (value < 1000) break;
    value /= 1000;
    unit = next;
  }
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${unit}`;
}

export const count = (number: number): string => number.toLocaleString('en-GB');

/** A moment as people say it, with its zone. */
export function when(time: string | null): string {
  if (time === null) return '–';
  return DateTime.fromISO(time).toFormat('d LLL HH:mm ZZZZ');
}

export function ago(time: string | null): string {
  if (time === null) return '–';
  const seconds = Math.max(0, (Date.now() - Date.parse(time)) / 1000);
  if (seconds < 60) return `${Math.round(seconds)} s`;
  if (seconds < 3600) return `${Math.round(seconds / 60)} min`;
  if (seconds < 172_800) return `${Math.round(seconds / 3600)} h`;
  return `${Math.round(seconds / 86_400)} d`;
}

export const cut = (text: string, length: number): string =>
  text.length > length ? `${text.slice(0, length - 1)}…` : text;
