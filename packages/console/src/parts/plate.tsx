import type { Environment } from '@tessarion/contract';
import type { JSX } from 'react';
import { Icon } from './icon.js';
import { Tile } from './tile.js';
import { Ago } from './words.js';

/** One end of a direction: the first points into the second. */
export function Plate({
  side,
  label,
  path,
  one,
  swap,
}: {
  readonly side: 'src' | 'dst';
  readonly label: string;
  readonly path: string;
  readonly one: Environment | undefined;
  readonly swap?: () => void;
}): JSX.Element {
  const kind = one?.kind ?? (path.endsWith('/live') ? 'live' : 'staging');
  return (
    <div className={`plate ${side} ${kind}`}>
      <span className="lb">{label}</span>
      <Tile kind={kind} state={one?.state ?? 'in-step'} size={32} />
      <span className="pl">
        <span className="mono nm">{path}</span>
        <span className="q">
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
        <button type="button" className="btn bare swap" onClick={swap} aria-label="Swap the two ends">
          <Icon name="swap" size={16} />
          Swap
        </button>
      )}
    </div>
  );
}
