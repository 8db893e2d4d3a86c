import type { EnvironmentKind, FleetEnvironment, Transfer } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Tile } from './tile.js';
import { duration, size, useNow } from './words.js';

/** Kind of an environment, guessed from its name only where nothing better is known: `live` is always called live. */
export const kindOf = (path: string, kinds: ReadonlyMap<string, EnvironmentKind>): EnvironmentKind =>
  kinds.get(path) ?? (path.endsWith('/live') ? 'live' : 'staging');

/** How far a transfer is: share where the total is known, rate and time left. */
export function measureProgress(
  transfer: Pick<Transfer, 'progress' | 'startedAt'>,
  now: number,
): { share: number | undefined; rate: number; left: number | undefined } {
  const { progress, startedAt } = transfer;
  const seconds = startedAt ? Math.max(0.5, (now - Date.parse(startedAt)) / 1000) : 0.5;
  const rate = (progress?.bytes ?? 0) / seconds;
  const share = progress?.totalBytes ? Math.min(0.99, progress.bytes / progress.totalBytes) : undefined;
  return {
    share,
    rate,
    left:
      share !== undefined && rate > 0 && progress?.totalBytes
        ? Math.max(0, (progress.totalBytes - progress.bytes) / rate)
        : undefined,
  };
}

/** Two rows of small tiles that fill as the work goes on. */
function LaidBar({
  kind,
  share,
  label,
}: {
  readonly kind: EnvironmentKind;
  readonly share: number | undefined;
  readonly label: string;
}): JSX.Element {
  const known = share === undefined ? {} : { 'aria-valuenow': Math.round(share * 100) };
  return (
    <span
      className={`laid-rows relative mt-6 mb-4 block w-233 bg-kind-tint ${kind}`}
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={100}
      {...known}
    >
      <i
        className={`absolute inset-y-0 left-0 bg-kind ${share === undefined ? 'animate-working motion-reduce:animate-none' : ''}`}
        style={{ width: `${Math.round((share ?? 0.3) * 39) * 6}px` }}
      />
    </span>
  );
}

/** One running transfer in a narrow column. */
export function RunningJob({
  transfer,
  kinds,
}: {
  readonly transfer: NonNullable<FleetEnvironment['running']>;
  readonly kinds: ReadonlyMap<string, EnvironmentKind>;
}): JSX.Element {
  const now = useNow(1000);
  const { share, rate, left } = measureProgress(transfer, now);
  const onto = kindOf(transfer.onto, kinds);
  return (
    <Link className="block pt-2 pb-10" to={`/transfers/${transfer.id}`}>
      {transfer.from && (
        <div className="flex items-center gap-6">
          <i className="w-30 text-ink3">from</i>
          <Tile kind={kindOf(transfer.from, kinds)} state="in-step" size={14} decorative />
          <span className="mono">{transfer.from}</span>
        </div>
      )}
      <div className="flex items-center gap-6">
        <i className="w-30 text-ink3">{transfer.from ? 'onto' : transfer.kind}</i>
        <Tile kind={onto} state="working" size={14} progress={share ?? 0.4} decorative />
        <span className="mono">{transfer.onto}</span>
      </div>
      <LaidBar kind={onto} share={share} label={`${transfer.kind} onto ${transfer.onto}`} />
      <div className="flex gap-10">
        <b>
          {share === undefined
            ? transfer.state === 'waiting'
              ? 'In line'
              : 'Working'
            : `${Math.round(share * 100)} %`}
        </b>
        {rate > 0 && <span>{size(rate)}/s</span>}
        {left !== undefined && <span>about {duration(Math.max(1, left))} left</span>}
      </div>
    </Link>
  );
}
