import { useQuery } from '@tanstack/react-query';
import { momentWords } from '@tessarion/core';
import type { JSX } from 'react';
import { useSearchParams } from 'react-router';
import { Icon } from '../../parts/icon.js';
import { Empty, Failure, Loading } from '../../parts/states.js';
import { clock, useNow } from '../../parts/words.js';
import { client, useMe } from '../../session.js';
import { NewPlan } from './new-plan.js';
import { Plan } from './plan.js';
import { Days, Strip } from './strip.js';

/** When one may deliver onto which site: openings, freezes and what is scheduled, day by day. */
export function WindowsRoom(): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const me = useMe();
  const plans = useQuery({
    queryKey: ['plans'],
    queryFn: () => client.call('deliveryPlanList', { query: { limit: 100 } }),
  });
  const now = useNow(60_000);
  const start = new Date(now);
  start.setHours(0, 0, 0, 0);
  const from = start.getTime();
  const at = query.get('at');
  const mayManage = me.data?.permissions.includes('window.manage') === true;
  const items = plans.data?.items ?? [];
  const current = items.find((one) => one.site === at);
  return (
    <main className="people">
      <section className="slab tableroom">
        <div className="tools">
          <h1>Windows</h1>
          <span className="key-list">
            <i className="k-open" /> open <i className="k-frozen" /> frozen <i className="k-due" /> delivery
          </span>
          <span className="sp" />
          {mayManage && (
            <button type="button" className="btn" onClick={() => setQuery({ at: 'new' })}>
              <Icon name="plus" />
              Set windows or a freeze
            </button>
          )}
        </div>
        {plans.isPending ? (
          <Loading what="Reading windows and freezes" rows={6} />
        ) : plans.isError ? (
          <Failure error={plans.error} />
        ) : items.length === 0 ? (
          <Empty title="No windows yet">
            Without windows one may deliver at all times. Quiet hours keep visitors from seeing a change happen.
          </Empty>
        ) : (
          <div className="scroll">
            <table className="cal">
              <thead>
                <tr>
                  <th>Site</th>
                  <th>Now</th>
                  <th className="days">
                    <Days from={from} />
                  </th>
                </tr>
              </thead>
              <tbody>
                {items.map((plan) => (
                  <tr key={plan.site} className={plan === current ? 'cur' : ''}>
                    <td>
                      <button type="button" className="cell-link" onClick={() => setQuery({ at: plan.site })}>
                        <b>{plan.site}</b>
                      </button>
                    </td>
                    <td className={plan.moment.because === 'freeze' ? 'wn-text' : 'q'}>
                      {momentWords(plan.moment, clock)}
                    </td>
                    <td className="days">
                      <Strip plan={plan} from={from} now={now} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </section>
      <aside tabIndex={0} aria-label="More" className="slab people-aside">
        {current ? (
          <Plan key={current.site} plan={current} mayManage={mayManage} />
        ) : at === 'new' ? (
          <NewPlan />
        ) : (
          <p className="q">Choose a site to see its windows, freezes and deliveries.</p>
        )}
      </aside>
    </main>
  );
}
