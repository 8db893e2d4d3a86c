import type { DeliveryPlan } from '@tessarion/contract';
import { momentWords } from '@tessarion/core';
import type { JSX } from 'react';
import { type Column, ListRoom, Opens } from '../../parts/list-room.js';
import { clock } from '../../parts/moments.js';
import { Older } from '../../parts/older.js';
import { RoomHead } from '../../parts/room.js';
import { Empty } from '../../parts/states.js';
import { usePaged } from '../../parts/use-paged.js';
import { useOpen, useView } from '../../parts/use-view.js';
import { Views } from '../../parts/views.js';
import { useNow } from '../../parts/words.js';
import { client, useMe } from '../../session.js';
import { daysFrom } from './days.js';
import { Month } from './month.js';
import { NewPlan } from './new-plan.js';
import { Plan } from './plan.js';
import { DayHeads, Strip } from './strip.js';

/** When one may deliver onto which site: openings, freezes and what is scheduled, day by day. */
export function WindowsRoom(): JSX.Element {
  const [at, open] = useOpen();
  const me = useMe();
  const { pages, items } = usePaged(['plans'], (page) => client.call('deliveryPlanList', { query: page }));
  const now = useNow(60_000);
  const days = daysFrom(now);
  const mayManage = me.data?.permissions.includes('window.manage') === true;
  const current = items.find((one) => one.site === at);
  const view = useView();
  const isMonth = view.get('as') === 'month';
  const ways = (
    <Views
      name="Shown as"
      views={[
        { view: 'weeks', words: 'Two weeks' },
        { view: 'month', words: 'Month' },
      ]}
      at={isMonth ? 'month' : 'weeks'}
      choose={(wanted) => view.set('as', wanted === 'month' ? 'month' : '')}
    />
  );
  if (isMonth)
    return (
      <main className="flex min-h-0 flex-1 flex-col bg-slab">
        <RoomHead>
          <h1 className="text-title">Windows</h1>
          {ways}
        </RoomHead>
        <Month view={view} />
      </main>
    );
  const columns: readonly Column<DeliveryPlan>[] = [
    { head: 'Site', cell: ({ site }) => <Opens open={() => open(site)}>{site}</Opens> },
    {
      head: 'Now',
      look: ({ moment }) => (moment.because === 'freeze' ? 'font-semibold text-warn' : 'text-ink2'),
      cell: ({ moment }) => momentWords(moment, clock),
    },
    {
      head: <DayHeads days={days} />,
      look: 'w-[70%] max-desk:w-full',
      cell: (plan) => <Strip plan={plan} days={days} now={now} />,
    },
  ];
  return (
    <ListRoom
      title="Windows"
      legend={
        <>
          {ways}
          <span className="ml-12 inline-flex items-center gap-6 text-small text-ink3">
            <i className="ml-8 h-10 w-10 bg-ink2" /> open <i className="ml-8 h-4 w-10 bg-warn" /> frozen{' '}
            <i className="ml-8 h-10 w-6 bg-accent" /> delivery
          </span>
        </>
      }
      act={mayManage ? { words: 'Set windows or a freeze' } : undefined}
      read={{ ...pages, what: 'Reading windows and freezes', rows: 6 }}
      items={items}
      idOf={({ site }) => site}
      at={at}
      choose={open}
      columns={columns}
      more={<Older pages={pages} words="Show more sites" />}
      empty={
        <Empty title="No windows yet">
          Without windows one may deliver at all times. Quiet hours keep visitors from seeing a change happen.
        </Empty>
      }
    >
      {current ? (
        <Plan key={current.site} plan={current} mayManage={mayManage} />
      ) : at === 'new' && mayManage ? (
        <NewPlan />
      ) : (
        <p className="text-ink2">Choose a site to see its windows, freezes and deliveries.</p>
      )}
    </ListRoom>
  );
}
