import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import { useQuery } from '@tanstack/react-query';
import type { Figures } from '@tessarion/contract';
import type { JSX, ReactNode } from 'react';
import { Icon } from '../parts/icon.js';
import { RoomHead } from '../parts/room.js';
import { SiteChoice } from '../parts/site-choice.js';
import { Failure, Loading } from '../parts/states.js';
import { Figure, FigureHead } from '../parts/table.js';
import { type Column, TileColumns } from '../parts/tile-columns.js';
import { useView } from '../parts/use-view.js';
import { number, size } from '../parts/words.js';
import { client } from '../session.js';

/** How the sites, or one of them, went over the last weeks; each picture with the table behind it. */
export function FiguresRoom(): JSX.Element {
  const view = useView();
  const site = view.get('site');
  const figures = useQuery({
    queryKey: ['transfers', 'figures', site],
    queryFn: () => client.call('figuresShow', { query: site === '' ? {} : { site } }),
  });
  return (
    <main className="flex min-h-0 flex-1 flex-col overflow-auto bg-slab">
      <RoomHead>
        <h1 className="text-title">Figures</h1>
        <span className="text-ink3">of the last twelve weeks</span>
        <span className="flex-1 max-desk:hidden" />
        <SiteChoice view={view} />
      </RoomHead>
      {figures.isPending ? (
        <Loading what="Reading what was measured" rows={10} />
      ) : figures.isError ? (
        <Failure error={figures.error} />
      ) : (
        <Charts figures={figures.data} />
      )}
    </main>
  );
}

/** A week by its Monday, as `30 Nov`. */
const weekName = (week: string): string =>
  new Date(`${week}T00:00:00Z`).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' });

const hourName = (hour: number): string => String(hour).padStart(2, '0');

/** The place of the largest; of what is all alike, the last. */
const largest = (columns: readonly Column[]): number =>
  columns.reduce((found, one, i) => (one.value >= (columns[found]?.value ?? 0) ? i : found), 0);

function Charts({ figures }: { readonly figures: Figures }): JSX.Element {
  const { drift, disk, visits, transfers } = figures;
  const up = drift.map(({ week, up }) => ({
    label: weekName(week),
    value: up,
    words: `Week of ${weekName(week)}: ${number(up)}`,
  }));
  const bytes = disk.map((one) => ({
    label: weekName(one.week),
    value: one.bytes,
    words: `Week of ${weekName(one.week)}: ${size(one.bytes)}`,
  }));
  const hours = visits.map(({ hour, requests }) => ({
    label: hourName(hour),
    value: requests,
    words: `${hourName(hour)} UTC: ${number(requests)}`,
  }));
  const moved = transfers.map(({ week, done, failed, undone }) => ({
    label: weekName(week),
    value: done + failed + undone,
    words: `Week of ${weekName(week)}: ${number(done + failed + undone)}`,
  }));
  return (
    <div className="grid grid-cols-2 border-t border-line max-wide:grid-cols-1 broad:grid-cols-4">
      <Chart
        title="Waits to go up"
        note="items, as they were found last in each week"
        heads={['Week of', 'Waits to go up', 'Changed on live']}
        rows={drift.map((one) => [weekName(one.week), number(one.up), number(one.down)])}
      >
        <TileColumns columns={up} point={up.length - 1} name="Items that waited, week by week" every={2} gap={14} />
      </Chart>
      <Chart
        title="Transfers"
        note="ended in each week"
        heads={['Week of', 'Done', 'Failed', 'Taken back or stopped']}
        rows={transfers.map((one) => [weekName(one.week), number(one.done), number(one.failed), number(one.undone)])}
      >
        <TileColumns columns={moved} point={moved.length - 1} name="Transfers, week by week" every={2} gap={14} />
      </Chart>
      <Chart
        title="Disk"
        note="files and databases of all environments"
        heads={['Week of', 'In use']}
        rows={disk.map((one) => [weekName(one.week), size(one.bytes)])}
      >
        <TileColumns columns={bytes} point={bytes.length - 1} name="Disk in use, week by week" every={2} gap={14} />
      </Chart>
      <Chart
        title="Visits of live"
        note="requests in each hour of the day, on the average of four weeks"
        heads={['Hour, UTC', 'Requests']}
        rows={visits.map((one) => [hourName(one.hour), number(one.requests)])}
      >
        <TileColumns columns={hours} point={largest(hours)} name="Requests, hour by hour" every={3} gap={5} />
      </Chart>
    </div>
  );
}

function Chart({
  title,
  note,
  heads,
  rows,
  children,
}: {
  readonly title: string;
  readonly note: string;
  readonly heads: readonly string[];
  readonly rows: readonly (readonly string[])[];
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <section className="border-r border-b border-line px-16 py-16 max-desk:px-12" aria-label={title}>
      <h2 className="mb-0">{title}</h2>
      <p className="mb-8 text-small text-ink3">{note}</p>
      {children}
      <Disclosure>
        <DisclosureButton className="group mt-8 flex min-h-24 items-center gap-6 text-small text-ink2 hover:text-accent touch:min-h-44">
          As a table <Icon name="down" size={12} className="group-data-open:rotate-180" />
        </DisclosureButton>
        <DisclosurePanel>
          <table>
            <thead>
              <tr>
                {heads.map((head, i) =>
                  i === 0 ? <th key={head}>{head}</th> : <FigureHead key={head}>{head}</FigureHead>,
                )}
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row[0]}>
                  {row.map((cell, i) =>
                    i === 0 ? <td key={heads[i]}>{cell}</td> : <Figure key={heads[i]}>{cell}</Figure>,
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </DisclosurePanel>
      </Disclosure>
    </section>
  );
}
