import { ProblemError } from './problems.js';

/** Where a page of what is newest first ended: the next one goes on before that. */
export interface Cursor {
  readonly at: string;
  readonly id: string;
}

/** Where a page ends, as the next one is asked for. */
export const writeCursor = ({ at, id }: Cursor): string => `${at}/${id}`;

const TIME = /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,6})?Z$/;

const wrong = (): ProblemError =>
  new ProblemError(
    'invalid',
    'There is no such page.',
    'Take the cursor from "next" of the page before, or leave it out.',
  );

/** @throws {ProblemError} `invalid` */
export function readCursor(text: string | undefined): Cursor | undefined {
  if (text === undefined) return undefined;
  const [at = '', id = ''] = text.split('/');
  if (!TIME.test(at) || Number.isNaN(Date.parse(at)) || id === '') throw wrong();
  return { at, id };
}

/** Of what is in an order of its own. @throws {ProblemError} `invalid` */
export function readPosition(text: string | undefined): number {
  if (text === undefined) return 0;
  if (!/^\d{1,9}$/.test(text)) throw wrong();
  return Number(text);
}
