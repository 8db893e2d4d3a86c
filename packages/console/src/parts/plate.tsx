import type { Environment } from '@tessarion/contract';
import type { JSX } from 'react';
import { Button } from './button.js';
import { Icon } from './icon.js';
import { Tile } from './tile.js';
import { Ago } from './words.js';

/** The first ends in a point that the second one takes in, to the right or, where it is narrow, downwards. */
const SIDES = {
  from: 'plate-from pr-34 pl-14 max-desk:h-52 max-desk:px-12 max-desk:pb-14',
  even: 'px-14 max-desk:h-52 max-desk:px-12',
  onto: 'plate-onto -ml-18 pr-6 pl-40 max-desk:-mt-9 max-desk:ml-0 max-desk:h-62 max-desk:pt-14 max-desk:pr-4 max-desk:pl-12',
} as const;

/** One end of a direction: the first points into the second. */
export function Plate({
  side,
  label,
  path,
  one,
  swap,
}: {
  /** `even`: neither leads to the other. */
  readonly side: keyof typeof SIDES;
  readonly label: string;
  readonly path: string;
  readonly one: Environment | undefined;
  readonly swap?: () => void;
}): JSX.Element {
  const kind = one?.kind ?? (path.endsWith('/live') ? 'live' : 'staging');
  return (
    <div
      className={`relative flex h-54 flex-1 items-center gap-10 bg-kind-tint py-8 max-desk:flex-none ${SIDES[side]} ${kind}`}
    >
      <span className="w-30 text-small text-ink2">{label}</span>
      <Tile kind={kind} state={one?.state ?? 'in-step'} size={32} />
      <span className="flex flex-col leading-18">
        <span className="mono text-[14px] font-semibold">{path}</span>
        <span className="text-ink2">
          {one?.refreshedAt ? (
            <>
              live’s news came in <Ago time={one.refreshedAt} suffix=" ago" />
            </>
          ) : one?.kind === 'live' ? (
            'the public site'
          ) : (
            ''
          )}
        </span>
      </span>
      {swap && (
        <Button bare className="ml-auto max-desk:mr-4" onClick={swap} aria-label="Swap the two ends">
          <Icon name="swap" size={16} />
          Swap
        </Button>
      )}
    </div>
  );
}
