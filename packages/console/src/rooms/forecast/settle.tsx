import type { Environment, ForecastCollision, ForecastItem } from '@tessarion/contract';
import type { JSX } from 'react';
import { Icon } from '../../parts/icon.js';
import { Tile } from '../../parts/tile.js';
import { PICK } from './pick.js';
import type { Take, Wishes } from './wishes.js';

type Kind = Environment['kind'];

/** Both ends as the columns of a comparison call them. */
export interface Sides {
  readonly from: { readonly name: string; readonly kind: Kind; readonly note: string };
  readonly onto: { readonly name: string; readonly kind: Kind; readonly note: string };
  readonly base: { readonly name: string; readonly note: string };
  /** `compare`: nothing moves. */
  readonly act: 'push' | 'pull' | 'undo' | 'compare';
  /** The forecast's source stands in the second column. */
  readonly isTurned?: boolean;
}

/** A name as a sentence begins with it. */
export const capital = (name: string): string => `${name.slice(0, 1).toUpperCase()}${name.slice(1)}`;

/** The name with a genitive, as a person writes it. */
export const own = (name: string): string => `${capital(name)}’s`;

/** The two ways of settling what collides, in words. */
export const waysOf = ({ act, from, onto }: Sides): { readonly source: string; readonly destination: string } =>
  act === 'undo'
    ? { source: 'Take it back', destination: 'Leave it' }
    : { source: own(from.name), destination: own(onto.name) };

/** How a collision is settled: as it was just wished, else as the forecast has it. */
export const takeOf = (collision: ForecastCollision, wishes: Wishes): Take | undefined => {
  const wished = wishes.current.settlements[collision.id];
  if (wished) return wished;
  return collision.settled ? { take: collision.settled.take, value: collision.settled.value } : undefined;
};

/** A collision that is about an item as a whole, and its settling. */
export function WholeCollision({
  collision,
  item,
  sides,
  wishes,
}: {
  readonly collision: ForecastCollision;
  readonly item: ForecastItem;
  readonly sides: Sides;
  readonly wishes: Wishes;
}): JSX.Element {
  const words =
    sides.act === 'undo'
      ? waysOf(sides)
      : item.change === 'deleted'
        ? { source: `Delete it on ${sides.onto.name}`, destination: `Keep it on ${sides.onto.name}` }
        : { source: `Take ${own(sides.from.name)}`, destination: `Leave ${own(sides.onto.name)}` };
  return (
    <div className="flex items-center gap-16 border-t border-line bg-accent-tint px-16 py-8 max-desk:flex-col max-desk:items-stretch max-desk:px-12">
      <p className="flex-1 font-semibold">{collision.words}</p>
      <Settle collision={collision} wishes={wishes} sides={sides} words={words} edit={() => undefined} isWide />
    </div>
  );
}

/** The ways in which one collision may be settled; choosing the chosen one takes it back. */
export function Settle({
  collision,
  wishes,
  sides,
  words,
  edit,
  isEditing = false,
  isWide = false,
}: {
  readonly collision: ForecastCollision;
  readonly wishes: Wishes;
  readonly sides: Sides;
  readonly words: { readonly source: string; readonly destination: string };
  readonly edit: (id: string) => void;
  /** A text of one's own is being written. */
  readonly isEditing?: boolean;
  /** Beside each other, where there is room. */
  readonly isWide?: boolean;
}): JSX.Element {
  const taken = isEditing ? 'edited' : takeOf(collision, wishes)?.take;
  const all = [
    ['source', words.source, '1', sides.from.kind],
    ['destination', words.destination, '2', sides.onto.kind],
    ['edited', 'Both, edited', '3', undefined],
  ] as const;
  return (
    <span className={isWide ? 'flex gap-4 max-desk:flex-col' : '-mx-4 flex flex-col gap-2'}>
      {all.map(([take, text, key, kind]) =>
        collision.allowed.includes(take) ? (
          <button
            key={take}
            type="button"
            className={`${PICK} ${taken === take ? 'border-accent font-semibold text-accent' : 'border-line'}`}
            aria-pressed={taken === take}
            onClick={() => {
              if (take === 'edited') edit(collision.id);
              else wishes.settle(collision.id, taken === take ? undefined : { take });
            }}
          >
            {taken === take ? (
              <Icon name="check" />
            ) : kind ? (
              <Tile kind={kind} state="in-step" size={14} decorative />
            ) : (
              <span className="block h-14 w-14 flex-none" />
            )}
            {text}
            <kbd className="ml-auto">{key}</kbd>
          </button>
        ) : null,
      )}
    </span>
  );
}
