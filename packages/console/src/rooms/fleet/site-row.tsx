import type { FleetEnvironment, FleetSite } from '@tessarion/contract';
import { type JSX, memo } from 'react';
import { Link } from 'react-router';
import { ButtonLink } from '../../parts/button.js';
import { Icon } from '../../parts/icon.js';
import { TickBox } from '../../parts/tick-box.js';
import { Tile } from '../../parts/tile.js';
import { Ago, age, useNow } from '../../parts/words.js';
import { type GoingOn, goingOn } from './going-on.js';
import { isStale, ofKind } from './groups.js';

/** Box, site, dev, lane, staging, lane, live, what is going on, last move. */
export const COLUMNS =
  'grid-cols-[26px_minmax(206px,1.2fr)_116px_72px_minmax(128px,.8fr)_96px_44px_minmax(160px,2fr)_96px] items-center whitespace-nowrap px-16';

/** A site: its tiles, and what waits on each lane. Drawn again only when it is another one, or chosen, or come to. */
export const SiteRow = memo(function SiteRow({
  site,
  isCurrent,
  isChosen,
  choose,
}: {
  readonly site: FleetSite;
  readonly isCurrent: boolean;
  /** Among those of which something is done together. */
  readonly isChosen: boolean;
  /** @param isRange whether all from the last chosen one to here are meant */
  readonly choose: (name: string, isRange: boolean) => void;
}): JSX.Element {
  const [dev] = ofKind(site, 'dev');
  const [staging, ...more] = ofKind(site, 'staging');
  const [live] = ofKind(site, 'live');
  const news = goingOn(site);
  const last = site.environments
    .flatMap((one) => (one.last ? [one.last] : []))
    .sort((a, b) => ((a.endedAt ?? '') < (b.endedAt ?? '') ? 1 : -1))[0];
  return (
    <div
      className={`group grid h-row ${COLUMNS} border-b border-line ${isCurrent ? 'bg-accent-tint shadow-at' : ''} max-desk:flex max-desk:h-auto max-desk:flex-wrap max-desk:gap-x-6 max-desk:gap-y-2 max-desk:px-12 max-desk:py-8`}
      data-row
      data-current={isCurrent || undefined}
    >
      <TickBox
        state={isChosen ? 'in' : 'out'}
        label={`Choose ${site.name}`}
        choose={(isRange) => choose(site.name, isRange)}
        className="w-14 self-stretch justify-self-start max-desk:hidden"
      />
      <Link
        data-site
        className="truncate pr-12 hover:text-accent max-desk:-order-2 max-desk:flex-[1_1_calc(100%-96px)] max-desk:p-0"
        to={`/sites/${site.name}`}
        title={`${site.name} · ${site.client}`}
      >
        <b>{site.name}</b> <span className="text-ink3">{site.client}</span>
      </Link>
      <Cell one={dev} more={0} />
      <Lane from={dev} />
      <Cell one={staging} more={more.length} />
      <Lane from={staging} />
      <span className="flex min-w-0 items-center justify-center gap-6 max-desk:h-24">
        {live && <Tile kind="live" state={live.state} size={18} />}
      </span>
      <News news={news} />
      <span className="min-w-0 text-right text-ink3 text-small max-desk:-order-1 max-desk:w-84">
        {live && (
          <ButtonLink
            small
            className={
              isCurrent ? '' : 'hidden! group-focus-within:inline-flex! group-hover:inline-flex! no-hover:hidden!'
            }
            to={
              staging
                ? `/sites/${site.name}/forecast?from=${staging.path}&onto=${site.name}/live`
                : `/sites/${site.name}/new`
            }
          >
            {staging ? 'Forecast' : 'New copy'}
          </ButtonLink>
        )}
        {last && !(isCurrent && live) && (
          <span className={live ? 'group-focus-within:hidden group-hover:hidden no-hover:inline!' : ''}>
            {last.kind} <Ago time={last.endedAt} />
          </span>
        )}
      </span>
    </div>
  );
});

function News({ news }: { readonly news: GoingOn | undefined }): JSX.Element {
  if (!news) return <span className="max-desk:hidden" />;
  const look = `truncate px-8 max-desk:px-0 ${
    news.isHot
      ? 'font-medium text-ink max-desk:flex-[1_1_100%]'
      : 'text-ink2 max-desk:flex-1 max-desk:text-right max-desk:text-small'
  }`;
  return news.to === undefined ? (
    <span className={look} title={news.words}>
      {news.words}
    </span>
  ) : (
    <Link className={`${look} hover:text-accent`} to={news.to} title={news.words}>
      {news.words}
    </Link>
  );
}

function Cell({ one, more }: { readonly one: FleetEnvironment | undefined; readonly more: number }): JSX.Element {
  const now = useNow();
  if (!one) return <span className="max-desk:hidden" />;
  return (
    <span className="flex min-w-0 items-center gap-6 max-desk:h-24">
      <Tile kind={one.kind} state={one.state} size={18} />
      <span className="truncate text-ink2 max-desk:hidden">{one.name}</span>
      {more > 0 && <span className="text-ink3 max-desk:hidden">+{more}</span>}
      {one.refreshedAt && (
        <span
          className={`ml-auto flex-none text-small max-desk:hidden ${isStale(one, now) ? 'font-semibold text-warn' : 'text-ink3'}`}
        >
          {age(one.refreshedAt, now)}
        </span>
      )}
    </span>
  );
}

function Lane({ from }: { readonly from: FleetEnvironment | undefined }): JSX.Element {
  const now = useNow();
  if (!from) return <span className="max-desk:hidden" />;
  const { drift } = from;
  if (!drift || drift.up + drift.down === 0)
    return (
      <span
        className="mx-14 border-t border-rim opacity-45 max-desk:mx-0 max-desk:w-14"
        title={drift ? `Nothing waited ${age(drift.at, now)} ago` : 'Not compared yet'}
      />
    );
  return (
    <span
      className="mx-8 grid grid-cols-[1fr_1fr] items-center gap-x-8 text-small max-desk:mx-0 max-desk:h-24 max-desk:grid-cols-[auto_auto] max-desk:gap-x-4"
      title={`Compared ${age(drift.at, now)} ago`}
    >
      {drift.up > 0 && (
        <span className="flex items-center gap-2 justify-self-end px-2">
          <b>{drift.up}</b>
          <Icon name="right" size={12} />
        </span>
      )}
      {drift.down > 0 && (
        <span className="col-start-2 flex items-center gap-2 px-2 text-ink3">
          <Icon name="left" size={12} />
          {drift.down}
        </span>
      )}
    </span>
  );
}
