import type { ChangeRequest, Environment, Site } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { stateWords } from '../../parts/course.js';
import { Icon } from '../../parts/icon.js';
import { measureProgress } from '../../parts/progress.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { Ago, number } from '../../parts/words.js';

/** The kinds of environments, from the lowest up. */
export const KINDS = ['dev', 'staging', 'live'] as const;

interface MapProps {
  readonly site: Site;
  /** The environment that is shown below. */
  readonly at: string | undefined;
  /** Those that are open. */
  readonly requests: readonly ChangeRequest[];
  readonly choose: (name: string) => void;
}

/** A site's environments in the order in which work goes up, and what is on its way from each. */
export function SiteMap(props: MapProps): JSX.Element {
  return (
    <section className="grid grid-cols-[1fr_1fr_1fr] bg-slab max-desk:grid-cols-[1fr]" aria-label="Environments">
      {KINDS.map((kind) => (
        <Column key={kind} kind={kind} {...props} />
      ))}
    </section>
  );
}

/** What a copy's work goes up to. */
const aboveOf = (site: Site, { kind }: Environment): string =>
  (kind === 'dev' ? site.environments.find((one) => one.kind === 'staging' && !one.preview)?.path : undefined) ??
  `${site.name}/live`;

/** Where a forecast of what waits in a copy is made. */
export const forecastLink = (site: Site, one: Environment): string =>
  `/sites/${site.name}/forecast?from=${one.path}&onto=${aboveOf(site, one)}`;

function Column({ site, kind, at, requests, choose }: MapProps & { readonly kind: Environment['kind'] }): JSX.Element {
  const members = site.environments.filter((one) => one.kind === kind);
  return (
    <div
      className={`min-w-0 pt-10 pb-14 not-first:border-line not-first:border-l max-desk:not-first:border-t max-desk:not-first:border-l-0 ${kind}`}
    >
      <h2 className="px-16 pb-6 text-small font-normal text-ink3">{kind}</h2>
      {members.length === 0 && (
        <Link
          className="flex h-54 items-center gap-10 px-16 text-ink3 hover:text-accent"
          to={`/sites/${site.name}/new?kind=${kind}`}
        >
          <svg width="32" height="32" viewBox="0 0 16 16" aria-hidden="true">
            <path
              d={kind === 'dev' ? 'M8,.7L15.3,8L8,15.3L.7,8Z' : 'M1.5,1.5H9.5L14.5,6.5V14.5H1.5Z'}
              fill="none"
              stroke="var(--color-ink3)"
              strokeWidth={0.8}
              strokeDasharray="2.2 1.8"
            />
          </svg>
          Make a {kind} copy
        </Link>
      )}
      {members.map((one) => (
        <div
          key={one.path}
          className={`grid grid-cols-[minmax(0,1fr)_auto] ${one.path === at ? 'bg-accent-tint shadow-at' : ''}`}
        >
          <button
            type="button"
            className="flex h-54 min-w-0 items-center justify-start gap-10 px-16 text-left whitespace-nowrap"
            aria-pressed={one.path === at}
            onClick={() => choose(one.name)}
          >
            <Tile kind={one.kind} state={one.state} size={32} progress={shareOf(one)} />
            <span className="flex min-w-0 flex-col leading-18">
              <b className="truncate text-[14px]">{one.name}</b>
              <span className="truncate text-ink2">
                {one.kind === 'live' ? (
                  one.state === 'in-step' ? (
                    'the public site'
                  ) : (
                    stateWord(one.state)
                  )
                ) : one.refreshedAt ? (
                  <>
                    {stateWord(one.state)},{' '}
                    {one.drift && (one.state === 'in-step' || one.state === 'drifted') ? (
                      <>
                        seen <Ago time={one.drift.at} suffix=" ago" />
                      </>
                    ) : (
                      <Ago time={one.refreshedAt} suffix=" old" />
                    )}
                  </>
                ) : (
                  'being made'
                )}
              </span>
            </span>
          </button>
          {kind !== 'live' && (
            <Lane site={site} one={one} requests={requests.filter((request) => request.from === one.path)} />
          )}
        </div>
      ))}
    </div>
  );
}

/** What goes over the lane from a copy: what waits to go up, what live changed itself, and what is asked for. */
function Lane({
  site,
  one,
  requests,
}: {
  readonly site: Site;
  readonly one: Environment;
  readonly requests: readonly ChangeRequest[];
}): JSX.Element {
  const { up, down } = one.drift ?? { up: 0, down: 0 };
  const [first] = requests;
  const above = aboveOf(site, one);
  return (
    <div className="flex flex-col items-end justify-center gap-2 pr-14 pl-8">
      <Link
        className={`flex min-h-24 min-w-24 items-center gap-4 hover:text-accent ${up > 0 ? 'text-ink' : 'text-ink3'}`}
        to={forecastLink(site, one)}
        title={up > 0 ? `${number(up)} wait to go up from ${one.path}` : `Nothing is known to wait in ${one.path}`}
      >
        {up > 0 ? <b className="text-title">{number(up)}</b> : <span className="text-ink3">–</span>}
        <Icon name="right" size={16} />
      </Link>
      {(down > 0 || first) && (
        <span className="flex items-center gap-10 text-small whitespace-nowrap">
          {down > 0 && (
            <Link
              className="inline-flex min-h-24 min-w-24 items-center gap-2 text-ink3 hover:text-accent"
              to={`/sites/${site.name}/forecast?from=${above}&onto=${one.path}`}
              title={`${number(down)} changed above ${one.path} since it was brought up to date`}
            >
              <Icon name="left" size={12} />
              {number(down)}
            </Link>
          )}
          {first && (
            <Link
              className="inline-flex min-h-24 min-w-24 items-center underline decoration-rim underline-offset-3 hover:text-accent"
              to={requests.length === 1 ? `/requests/${first.id}` : `/requests?site=${site.name}`}
              title={requests.map((request) => request.title).join('\n')}
            >
              {requests.length === 1 ? stateWords(first.state) : `${requests.length} requests`}
            </Link>
          )}
        </span>
      )}
    </div>
  );
}

/** How far the work on an environment is; some way, where its amount is not known. */
const shareOf = ({ running }: Environment): number =>
  (running ? measureProgress(running, Date.now()).share : undefined) ?? 0.4;
