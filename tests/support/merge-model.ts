import type { ForecastItem } from '@tessarion/contract';
import { type Cells, type End, kindOf } from './any-site.js';

/**
 * What a merge does, said by the identity of things alone: without keys, images in any order, or a word of the product's
 * code. Two ends are remembered as they were when they last agreed about each thing, cell by cell.
 */
export interface Pair {
  readonly source: Map<string, Cells>;
  readonly destination: Map<string, Cells>;
}

export const agreed = (source: End, destination: End): Pair => ({
  source: new Map(source.things),
  destination: new Map(destination.things),
});
export const turned = ({ source, destination }: Pair): Pair => ({ source: destination, destination: source });
export const kept = ({ source, destination }: Pair): Pair => ({
  source: new Map(source),
  destination: new Map(destination),
});

/** How a thing stands before a transfer. */
interface Standing {
  readonly source: Cells | undefined;
  readonly destination: Cells | undefined;
  readonly baseSource: Cells | undefined;
  readonly baseDestination: Cells | undefined;
}

/** What ought to become of a thing that the source changed. */
interface Expected {
  readonly change: 'new' | 'changed' | 'deleted';
  /** Cells that are the source's news. */
  readonly cells: readonly string[];
  /** Cells that both changed, or `row` where one changed what the other deleted. */
  readonly colliding: readonly string[];
}

const changedCells = (a: Cells, b: Cells): string[] => Object.keys(a).filter((name) => a[name] !== b[name]);

function expectedOf(thing: string, standing: Standing): Expected | undefined {
  const { source, destination, baseSource, baseDestination } = standing;
  if (kindOf(thing) === 'file') return expectedFile(standing);
  if (!source && !baseSource) return undefined;
  if (!source) {
    if (!destination) return undefined;
    if (!baseDestination) return undefined;
    const isOwn = changedCells(destination, baseDestination).length > 0;
    return { change: 'deleted', cells: [], colliding: isOwn ? ['row'] : [] };
  }
  if (!baseSource) {
    if (!destination) return { change: 'new', cells: Object.keys(source), colliding: [] };
    const unlike = changedCells(source, destination);
    return unlike.length === 0 ? undefined : { change: 'changed', cells: unlike, colliding: unlike };
  }
  const cells = changedCells(source, baseSource);
  if (cells.length === 0) return undefined;
  if (!destination) return { change: 'changed', cells, colliding: ['row'] };
  const waiting = cells.filter((name) => source[name] !== destination[name]);
  if (waiting.length === 0) return undefined;
  const own = waiting.filter((name) => destination[name] !== baseDestination?.[name]);
  return { change: 'changed', cells: waiting, colliding: own };
}

/** A file that is not there is a state like any other. */
function expectedFile({ source, destination, baseSource, baseDestination }: Standing): Expected | undefined {
  if (isLike(source, baseSource) || isLike(source, destination)) return undefined;
  const change = !source ? 'deleted' : destination ? 'changed' : 'new';
  return { change, cells: [], colliding: isLike(destination, baseDestination) ? [] : ['row'] };
}

const standingOf = (pair: Pair, source: End, destination: End, thing: string): Standing => ({
  source: source.things.get(thing),
  destination: destination.things.get(thing),
  baseSource: pair.source.get(thing),
  baseDestination: pair.destination.get(thing),
});

export interface Round {
  readonly pair: Pair;
  readonly source: End;
  readonly destination: End;
  /** Item ids of things that the source deleted, as it knew them. */
  readonly formerItems: ReadonlyMap<string, string>;
  readonly formerParts: ReadonlyMap<string, string>;
  readonly direction: 'up' | 'down';
}

const allThings = ({ pair, source, destination }: Round): string[] => [
  ...new Set([
    ...source.things.keys(),
    ...destination.things.keys(),
    ...pair.source.keys(),
    ...pair.destination.keys(),
  ]),
];

const isFollowing = (thing: string): boolean => kindOf(thing) === 'purchase';
/** Rows without a key are counted, not told apart: see {@link countedNotes}. */
const isCounted = (thing: string): boolean => kindOf(thing) === 'note';

/** Checks what a forecast lists. @returns what is not as it should be */
export function wrongInForecast(round: Round, items: readonly ForecastItem[]): string[] {
  const byId = new Map(items.map((item) => [item.id, item]));
  const unknown = new Set(byId.keys());
  const wrong: string[] = [];
  for (const thing of allThings(round)) {
    if (isFollowing(thing) || isCounted(thing)) continue;
    const expected = expectedOf(thing, standingOf(round.pair, round.source, round.destination, thing));
    const id = itemOf(round, thing);
    const item = byId.get(id);
    if (!expected) continue;
    unknown.delete(id);
    if (!item) {
      wrong.push(`${thing} (${id}) is ${expected.change} on the source, and not listed`);
      continue;
    }
    const own = collisionsOf(round, thing, item);
    const fields = own.flatMap(({ field }) => (field === null ? [] : [field]));
    const rows = own.filter(({ field }) => field === null);
    if (kindOf(thing) === 'file') {
      if (expected.colliding.length > 0 !== own.length > 0)
        wrong.push(`${thing} ${own.length > 0 ? 'collides' : 'does not collide'}: ${expected.colliding}`);
      continue;
    }
    for (const cell of expected.colliding)
      if (rows.length === 0 && (cell === 'row' || !fields.includes(cell)))
        wrong.push(`${thing} (${id}): both ends changed ${cell}, and it does not collide`);
    for (const field of fields)
      if (!expected.colliding.includes(field))
        wrong.push(`${thing} (${id}): ${field} collides, though only the source changed it`);
    if (own.length === 0)
      for (const { name } of item.fields)
        if (
          kindOf(thing) !== 'page' &&
          expected.change === 'changed' &&
          item.kind === 'row' &&
          !expected.cells.includes(name)
        )
          wrong.push(`${thing} (${id}): ${name} is listed, though the source did not change it`);
  }
  for (const id of unknown)
    if (!/^row:(note|purchase):/.test(id)) wrong.push(`${id} is listed, and nothing changed it on the source`);
  return wrong;
}

/** The id under which a thing is listed: as the source knows it, or knew it. */
const itemOf = ({ source, formerItems }: Round, thing: string): string =>
  source.items.get(thing) ?? formerItems.get(thing) ?? `? ${thing}`;

type Collides = ForecastItem['collisions'][number];

/** Collisions of one thing among those of its item. */
function collisionsOf({ source, formerParts }: Round, thing: string, item: ForecastItem): readonly Collides[] {
  const part = source.parts.get(thing) ?? formerParts.get(thing);
  const isOf = (one: Collides, name: string): boolean => one.id === name || one.id.startsWith(`${name}/`);
  if (part !== undefined) return item.collisions.filter((one) => isOf(one, part));
  return item.collisions.filter((one) => !one.id.startsWith(`${item.id}/block `));
}

/**
 * Checks what a transfer made of the destination, and moves the pair on.
 *
 * @returns what is not as it should be
 */
export function wrongAfter(round: Round, items: readonly ForecastItem[], after: End): string[] {
  const byId = new Map(items.map((item) => [item.id, item]));
  const { pair } = round;
  const wrong: string[] = [];
  const say = (thing: string, what: string, was: unknown, is: unknown): void => {
    wrong.push(`${thing} ${what}: ${JSON.stringify(was)}, and is ${JSON.stringify(is)}`);
  };
  for (const thing of allThings(round)) {
    if (isFollowing(thing)) {
      const [is, own] = [after.things.get(thing), round.destination.things.get(thing)];
      if (round.direction === 'up' && JSON.stringify(is) !== JSON.stringify(own))
        say(thing, 'is what visitors made', own, is);
      continue;
    }
    if (isCounted(thing)) continue;
    const standing = standingOf(pair, round.source, round.destination, thing);
    const { source, destination } = standing;
    const expected = expectedOf(thing, standing);
    const is = after.things.get(thing);
    const item = byId.get(itemOf(round, thing));
    const isTreated = item?.outcome === 'written' || item?.outcome === 'kept';
    let should: Cells | undefined = destination;
    if (expected && item?.outcome === 'written') {
      const own = collisionsOf(round, thing, item);
      const row = own.find(({ field }) => field === null);
      if (row?.settled?.take === 'destination') should = destination;
      else if (!source || !destination || kindOf(thing) === 'file') should = source;
      else if (row?.settled?.take === 'source' && expected.colliding.includes('row')) should = source;
      else {
        const taken = expected.cells.filter((cell) => {
          const one = own.find(({ field }) => field === cell);
          return !one || one.settled?.take === 'source';
        });
        should = { ...destination, ...Object.fromEntries(taken.map((cell) => [cell, source[cell] as string | null])) };
      }
    }
    if (!isLike(is, should)) {
      say(thing, `should be as ${item ? `it was ${item.outcome}` : 'it was'}`, should, is);
      continue;
    }
    // Both ends know now what they have of it.
    if (kindOf(thing) === 'file') {
      if (isTreated || (!expected && !isLike(source, standing.baseSource))) whole(pair, thing, source, is);
      continue;
    }
    if (!expected) {
      if (source && standing.baseSource && destination)
        for (const cell of changedCells(source, standing.baseSource))
          move(pair, thing, cell, source, is ?? destination);
      if (!source && !destination) forget(pair, thing);
      if (source && !standing.baseSource && destination) whole(pair, thing, source, is);
      continue;
    }
    if (!isTreated) continue;
    if (!source || !destination || !standing.baseSource || expected.colliding.includes('row'))
      whole(pair, thing, source, is);
    else
      for (const cell of changedCells(source, standing.baseSource)) move(pair, thing, cell, source, is ?? destination);
  }
  return wrong;
}

const countOf = (things: ReadonlyMap<string, Cells>, thing: string): number => Number(things.get(thing)?.count ?? 0);
const count = (things: Map<string, Cells>, thing: string, many: number): void => {
  if (many > 0) things.set(thing, { count: String(many) });
  else things.delete(thing);
};

/**
 * Rows without a key cannot be told apart: as many come or go as came or went on the source, but for those that came or went
 * on the destination too, which are the same.
 */
export function wrongNotes(round: Round, items: readonly ForecastItem[], after: End): string[] {
  const outcomes = new Map(items.map((item) => [item.id, item.outcome]));
  const { pair, source, destination } = round;
  const wrong: string[] = [];
  for (const thing of allThings(round)) {
    if (!isCounted(thing)) continue;
    const [base, own] = [countOf(pair.source, thing), countOf(pair.destination, thing)];
    const [news, ownNews] = [countOf(source.things, thing) - base, countOf(destination.things, thing) - own];
    const both = news > 0 ? Math.min(news, Math.max(0, ownNews)) : Math.max(news, Math.min(0, ownNews));
    const outcome = outcomes.get(itemOf(round, thing));
    if ((outcome !== undefined) !== (news !== both))
      wrong.push(`${thing} is ${outcome === undefined ? 'not ' : ''}listed: ${news} on the source, ${ownNews} here`);
    const change = outcome === 'written' ? news - both : 0;
    const [is, should] = [countOf(after.things, thing), countOf(destination.things, thing) + change];
    if (is !== should)
      wrong.push(`${thing} is there ${is} times, not ${should}: ${news} on the source, ${ownNews} here`);
    count(pair.source, thing, base + both + change);
    count(pair.destination, thing, own + both + change);
  }
  return wrong;
}

/** What both ends added or removed alike stays known where a transfer is taken back. */
export const keepNotes = (round: Round): void => {
  wrongNotes(round, [], round.destination);
};

const isLike = (a: Cells | undefined, b: Cells | undefined): boolean =>
  a && b ? changedCells(a, b).length === 0 : a === b;

function whole(pair: Pair, thing: string, source: Cells | undefined, destination: Cells | undefined): void {
  if (source) pair.source.set(thing, source);
  else pair.source.delete(thing);
  if (destination) pair.destination.set(thing, destination);
  else pair.destination.delete(thing);
}
const forget = (pair: Pair, thing: string): void => whole(pair, thing, undefined, undefined);
function move(pair: Pair, thing: string, cell: string, source: Cells, destination: Cells): void {
  pair.source.set(thing, { ...(pair.source.get(thing) ?? source), [cell]: source[cell] as string | null });
  pair.destination.set(thing, {
    ...(pair.destination.get(thing) ?? destination),
    [cell]: destination[cell] as string | null,
  });
}
