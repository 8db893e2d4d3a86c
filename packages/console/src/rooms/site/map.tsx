import type { ChangeRequest, Environment, Site } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { stateWords } from '../../parts/course.js';
import { Icon } from '../../parts/icon.js';
import { measureProgress } from '../../parts/progress.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { Ago, number } from '../../parts/words.js';

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
    <section className="map slab" aria-label="Environments">
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
    <div className={`col ${kind}`}>
      <h2 className="qq">{kind}</h2>
      {members.length === 0 && (
        <Link className="vacant" to={`/sites/${site.name}/new?kind=${kind}`}>
          <svg width="32" height="32" viewBox="0 0 16 16" aria-hidden="true">
            <path
              d={kind === 'dev' ? 'M8,.7L15.3,8L8,15.3L.7,8Z' : 'M1.5,1.5H9.5L14.5,6.5V14.5H1.5Z'}
              fill="none"
              stroke="var(--ink3)"
              strokeWidth={0.8}
              strokeDasharray="2.2 1.8"
            />
          </svg>
          Make a {kind} copy
        </Link>
      )}
      {members.map((one) => (
        <div key={one.path} className={`env ${one.path === at ? 'cur' : ''}`}>
          <button
            type="button"
            className="plate-button"
            aria-pressed={one.path === at}
            onClick={() => choose(one.name)}
          >
            <Tile kind={one.kind} state={one.state} size={32} progress={shareOf(one)} />
            <span className="pl">
              <b>{one.name}</b>
              <span className="q">
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
    <div className="lane-out">
      <Link
        className={`lane-link ${up > 0 ? 'waits' : ''}`}
        to={forecastLink(site, one)}
        title={up > 0 ? `${number(up)} wait to go up from ${one.path}` : `Nothing is known to wait in ${one.path}`}
      >
        {up > 0 ? <b>{number(up)}</b> : <span className="qq">–</span>}
        <Icon name="right" size={16} />
      </Link>
      {(down > 0 || first) && (
        <span className="under">
          {down > 0 && (
            <Link
              className="news"
              to={`/sites/${site.name}/forecast?from=${above}&onto=${one.path}`}
              title={`${number(down)} changed above ${one.path} since it was brought up to date`}
            >
              <Icon name="left" size={12} />
              {number(down)}
            </Link>
          )}
          {first && (
            <Link
              className="u"
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
