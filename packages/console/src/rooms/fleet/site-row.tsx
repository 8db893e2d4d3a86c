import type { Environment, Site } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Icon } from '../../parts/icon.js';
import { Tile } from '../../parts/tile.js';
import { Ago, age, useNow } from '../../parts/words.js';
import { groupOf, ofKind, rank, STALE_DAYS } from './groups.js';

/** A site: its tiles, and what waits on each lane. */
export function SiteRow({ site, isCurrent }: { readonly site: Site; readonly isCurrent: boolean }): JSX.Element {
  const [dev] = ofKind(site, 'dev');
  const [staging, ...more] = ofKind(site, 'staging');
  const [live] = ofKind(site, 'live');
  const reason =
    [...site.environments].sort((a, b) => rank(a) - rank(b)).find((one) => one.reason !== '')?.reason ?? '';
  const running = site.environments.find((one) => one.running)?.running;
  const last = site.environments
    .flatMap((one) => (one.last ? [one.last] : []))
    .sort((a, b) => ((a.endedAt ?? '') < (b.endedAt ?? '') ? 1 : -1))[0];
  const isHot = groupOf(site) === 'Needs a hand' || running !== undefined;
  return (
    <div className={`r ${isCurrent ? 'cur' : ''}`}>
      <Link className="st" to={`/sites/${site.name}`} title={`${site.name} · ${site.client}`}>
        <b>{site.name}</b> <span className="qq">{site.client}</span>
      </Link>
      <Cell one={dev} more={0} />
      <Lane from={dev} />
      <Cell one={staging} more={more.length} />
      <Lane from={staging} />
      <span className="lane lv">{live && <Tile kind="live" state={live.state} size={18} />}</span>
      <span className={`why ${isHot ? 'hot' : ''}`} title={reason}>
        {running ? `${verbOf(running.kind)} ${running.onto.split('/')[1]}` : reason}
      </span>
      <span className="mv qq">
        {isCurrent && staging ? (
          <Link className="btn sm" to={`/sites/${site.name}/forecast?from=${staging.path}&onto=${site.name}/live`}>
            Forecast
          </Link>
        ) : last ? (
          <>
            {last.kind} <Ago time={last.endedAt} />
          </>
        ) : null}
      </span>
    </div>
  );
}

const VERBS: Record<string, string> = {
  clone: 'Making',
  push: 'Pushing onto',
  pull: 'Bringing news into',
  reset: 'Resetting',
  restore: 'Restoring',
  undo: 'Undoing on',
  snapshot: 'Taking a snapshot of',
  remove: 'Removing',
  rename: 'Renaming',
  adopt: 'Bringing in',
};
const verbOf = (kind: string): string => VERBS[kind] ?? kind;

function Cell({ one, more }: { readonly one: Environment | undefined; readonly more: number }): JSX.Element {
  const now = useNow();
  if (!one) return <span className="lane none" />;
  const isStale = one.refreshedAt !== null && now - Date.parse(one.refreshedAt) > STALE_DAYS * 86_400_000;
  return (
    <span className="lane">
      <Tile kind={one.kind} state={one.state} size={18} />
      <span className="en q">{one.name}</span>
      {more > 0 && <span className="qq">+{more}</span>}
      {one.refreshedAt && <span className={`ag ${isStale ? 'stale' : 'qq'}`}>{age(one.refreshedAt, now)}</span>}
    </span>
  );
}

function Lane({ from }: { readonly from: Environment | undefined }): JSX.Element {
  const now = useNow();
  if (!from) return <span className="x off" />;
  const { drift } = from;
  if (!drift || drift.up + drift.down === 0)
    return <span className="x eq" title={drift ? `Nothing waited ${age(drift.at, now)} ago` : 'Not compared yet'} />;
  return (
    <span className="x" title={`Compared ${age(drift.at, now)} ago`}>
      <span className="up">
        {drift.up > 0 && (
          <>
            <b>{drift.up}</b>
            <Icon name="right" size={12} />
          </>
        )}
      </span>
      <span className="dn">
        {drift.down > 0 && (
          <>
            <Icon name="left" size={12} />
            {drift.down}
          </>
        )}
      </span>
    </span>
  );
}
