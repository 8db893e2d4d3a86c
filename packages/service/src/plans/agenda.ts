import type { AgendaItem } from '@tessarion/contract';
import { type Freeze, frozenOf, isFreezeFor, openingsOf, type Stretch, type WeeklyWindow } from '@tessarion/core';
import type { SiteRecord } from '../fleet/sites.js';
import type { OnRecords } from '../ground/open.js';
import type { Sight } from '../people/sight.js';
import { listFreezes } from './plan.js';

/** What happens at one time to several sites is told once. */
class Told {
  readonly #all = new Map<string, AgendaItem & { sites: string[] }>();

  add(item: Omit<AgendaItem, 'sites'>, { from, until }: Stretch, site: string): void {
    const key = `${item.is} ${item.reason ?? ''} ${from} ${until}`;
    const found = this.#all.get(key);
    if (found) found.sites.push(site);
    else this.#all.set(key, { ...item, sites: [site] });
  }

  get items(): AgendaItem[] {
    return [...this.#all.values()];
  }
}

/**
 * Deliveries, windows and freezes of the sites that may be read which touch a span of time, the first first. Three
 * queries, however many sites there are.
 */
export async function agendaOf(on: OnRecords, sight: Sight, span: Stretch): Promise<AgendaItem[]> {
  const [sites, windows, freezes, due] = await Promise.all([
    on('site').select('name', 'client', 'tags', 'time_zone') as Promise<
      Pick<SiteRecord, 'name' | 'client' | 'tags' | 'time_zone'>[]
    >,
    on('delivery_window').orderBy('position') as unknown as Promise<(WeeklyWindow & { site: string })[]>,
    listFreezes(on),
    on('change_request as r')
      .where({ state: 'scheduled' })
      .where('deliver_at', '>=', new Date(span.from))
      .where('deliver_at', '<', new Date(span.until))
      .modify((query) => sight.narrow(query, 'site', 'onto_path'))
      .select('id', 'title', 'site', 'deliver_at') as Promise<
      { id: string; title: string; site: string; deliver_at: Date }[]
    >,
  ]);
  const told = new Told();
  const stretch = ({ from, until }: Stretch) => ({
    from: new Date(from).toISOString(),
    until: new Date(until).toISOString(),
    request: null,
  });
  for (const site of sites.filter(({ name }) => sight.seesSite(name))) {
    const own = windows.filter((one) => one.site === site.name);
    for (const one of openingsOf(own, site.time_zone, span))
      told.add({ is: 'window', reason: null, ...stretch(one) }, one, site.name);
    for (const { reason, scope, time } of freezes)
      if (isFreezeFor(scope, site))
        for (const one of frozenOf([time as Freeze], site.time_zone, span))
          told.add({ is: 'freeze', reason, ...stretch(one) }, one, site.name);
  }
  const deliveries = due.map(
    ({ id, title, site, deliver_at }): AgendaItem => ({
      is: 'delivery',
      from: deliver_at.toISOString(),
      until: null,
      reason: title,
      request: id,
      sites: [site],
    }),
  );
  return [...deliveries, ...told.items].sort((a, b) => (a.from < b.from ? -1 : a.from > b.from ? 1 : 0));
}
