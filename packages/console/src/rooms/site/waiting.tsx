import type { Environment, Site } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import type { JSX } from 'react';
import { TextLink } from '../../parts/button.js';
import { Ago, number } from '../../parts/words.js';
import { forecastLink } from './map.js';

/** What waits in a copy to go up, as it was compared last: the first of it, and the way to all. */
export function Waiting({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element | null {
  const { drift } = one;
  if (!drift || drift.up === 0) return null;
  const rest = drift.up - drift.first.length;
  return (
    <section className="border-t border-line" aria-label="Waits to go up">
      <div className="flex flex-wrap items-baseline gap-8 px-16 pt-12 pb-8">
        <h2 className="m-0">{counted(drift.up, 'item')} to go up</h2>
        <span className="text-ink3">
          compared <Ago time={drift.at} suffix=" ago" />
        </span>
        <span className="flex-1 max-desk:hidden" />
        <TextLink to={forecastLink(site, one)}>
          {drift.up === 1 ? 'Forecast it' : `Forecast all ${number(drift.up)}`}
        </TextLink>
      </div>
      <ul className="border-line not-empty:border-t">
        {drift.first.map((item) => (
          <li
            key={`${item.kind} ${item.title}`}
            className="grid min-h-row grid-cols-[64px_minmax(0,1fr)_auto] items-center gap-12 border-b border-line px-16"
          >
            <span className="text-small text-ink3">{item.kind}</span>
            <b className="truncate" title={item.title}>
              {item.title}
            </b>
            <span className="text-small text-ink2">{item.change}</span>
          </li>
        ))}
      </ul>
      {drift.first.length > 0 && rest > 0 && <p className="px-16 py-6 text-ink3">and {number(rest)} more</p>}
    </section>
  );
}
