import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { DeliveryPlan, Me } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { Icon } from '../parts/icon.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { clock, useNow } from '../parts/words.js';
import { client, useSites } from '../session.js';

const DAY = 86_400_000;
const DAYS_SHOWN = 14;
const NAMES = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];

/** When one may deliver onto which site: openings, freezes and what is scheduled, day by day. */
export function WindowsRoom(): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const me = useQuery<Me>({ queryKey: ['me'], queryFn: () => client.call('me') });
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
                    <td className={plan.now.because === 'freeze' ? 'wn-text' : 'q'}>{nowWords(plan)}</td>
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

const nowWords = ({ now }: DeliveryPlan): string =>
  now.allowed
    ? now.until
      ? `open until ${clock(now.until)}`
      : 'open'
    : `${now.because === 'freeze' ? 'frozen' : 'closed'}${now.next ? `, opens ${clock(now.next)}` : ''}`;

function Days({ from }: { readonly from: number }): JSX.Element {
  return (
    <span className="day-heads">
      {Array.from({ length: DAYS_SHOWN }, (_one, i) => {
        const day = new Date(from + i * DAY + DAY / 2);
        return (
          <span key={day.toISOString()} className={i === 0 ? 'today' : ''}>
            {NAMES[(day.getDay() + 6) % 7]} {day.getDate()}
          </span>
        );
      })}
    </span>
  );
}

/** Two weeks of one site, hour by hour from left to right; the same is listed in words beside it. */
function Strip({
  plan,
  from,
  now,
}: {
  readonly plan: DeliveryPlan;
  readonly from: number;
  readonly now: number;
}): JSX.Element {
  const span = DAYS_SHOWN * DAY;
  const x = (time: string | number): number =>
    Math.min(1000, Math.max(0, (((typeof time === 'number' ? time : Date.parse(time)) - from) / span) * 1000));
  const isInside = (one: { from: string; until: string }): boolean => x(one.until) > 0 && x(one.from) < 1000;
  return (
    <svg
      className="strip"
      viewBox="0 0 1000 20"
      preserveAspectRatio="none"
      role="img"
      aria-label={`${plan.openings.length} openings in the next weeks, ${plan.frozen.length} freezes`}
    >
      {Array.from({ length: DAYS_SHOWN }, (_one, i) => (
        <rect
          key={String(i)}
          className="day"
          x={(i * 1000) / DAYS_SHOWN}
          y={0}
          width={1000 / DAYS_SHOWN - 2}
          height={20}
        />
      ))}
      {plan.openings.filter(isInside).map((one) => (
        <rect
          key={one.from}
          className="open"
          x={x(one.from)}
          y={3}
          width={Math.max(2, x(one.until) - x(one.from))}
          height={14}
        />
      ))}
      {plan.frozen.filter(isInside).map((one) => (
        <rect
          key={one.from}
          className="frozen"
          x={x(one.from)}
          y={8}
          width={Math.max(2, x(one.until) - x(one.from))}
          height={4}
        />
      ))}
      {plan.deliveries.map((one) => (
        <rect key={one.request} className="due" x={x(one.at) - 1.5} y={0} width={4} height={20} />
      ))}
      <rect className="now" x={x(now)} y={0} width={1.2} height={20} />
    </svg>
  );
}

const daysText = (days: readonly number[]): string =>
  days.length === 7 ? 'every day' : days.map((day) => NAMES[day - 1]).join(', ');

function Plan({ plan, mayManage }: { readonly plan: DeliveryPlan; readonly mayManage: boolean }): JSX.Element {
  const cache = useQueryClient();
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['plans'] }) };
  const setWindows = useMutation({
    mutationFn: (windows: DeliveryPlan['windows']) =>
      client.call('windowSet', { params: { site: plan.site }, body: { windows } }),
    ...done,
  });
  const lift = useMutation({ mutationFn: (id: string) => client.call('freezeRemove', { params: { id } }), ...done });
  const failure = [setWindows, lift].find((act) => act.isError)?.error;
  return (
    <div className="stack">
      <h2>
        <Link to={`/sites/${plan.site}`}>{plan.site}</Link>
      </h2>
      <p className="q">
        {nowWords(plan)}; times of {plan.timeZone}
      </p>
      {failure !== undefined && <Failure error={failure} />}
      <ul className="plain">
        {plan.windows.map((one, i) => (
          <li key={`${one.from} ${one.days.join()}`} className="given">
            <span>
              <b>
                {one.from}–{one.until}
              </b>{' '}
              <span className="q">{daysText(one.days)}</span>
            </span>
            {mayManage && (
              <button
                type="button"
                className="bare-link"
                onClick={() => setWindows.mutate(plan.windows.filter((_one, j) => j !== i))}
              >
                Take out
              </button>
            )}
          </li>
        ))}
        {plan.windows.length === 0 && <li className="q">No windows: it is allowed at all times but in freezes.</li>}
      </ul>
      {mayManage && <WindowForm add={(one) => setWindows.mutate([...plan.windows, one])} />}
      {plan.freezes.length > 0 && <h2>Freezes</h2>}
      <ul className="plain">
        {plan.freezes.map((one) => (
          <li key={one.id} className="given">
            <span>
              <b>{one.reason}</b>{' '}
              <span className="q">
                {one.time.from.replace('T', ' ')} to {one.time.until.replace('T', ' ')}
                {one.time.repeats === 'yearly' ? ', each year' : ''} · for{' '}
                {one.scope.startsWith('client:') ? one.scope.slice('client:'.length) : one.scope}
              </span>
            </span>
            {mayManage && (
              <button type="button" className="bare-link" onClick={() => lift.mutate(one.id)}>
                Lift
              </button>
            )}
          </li>
        ))}
      </ul>
      {plan.deliveries.length > 0 && <h2>Deliveries</h2>}
      <ul className="plain">
        {plan.deliveries.map((one) => (
          <li key={one.request}>
            <Link to={`/requests/${one.request}`}>
              <b>{one.title}</b>
            </Link>
            <span className="q">{clock(one.at)}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function WindowForm({ add }: { readonly add: (window: DeliveryPlan['windows'][number]) => void }): JSX.Element {
  const [days, setDays] = useState<readonly number[]>([1, 2, 3, 4]);
  const [from, setFrom] = useState('22:00');
  const [until, setUntil] = useState('02:00');
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (days.length > 0) add({ days: [...days].sort(), from, until });
  };
  return (
    <form className="stack" onSubmit={submit}>
      <fieldset className="weekdays">
        <legend>Days</legend>
        {NAMES.map((name, i) => (
          <label key={name}>
            <input
              type="checkbox"
              checked={days.includes(i + 1)}
              onChange={() => setDays(days.includes(i + 1) ? days.filter((day) => day !== i + 1) : [...days, i + 1])}
            />
            {name}
          </label>
        ))}
      </fieldset>
      <div className="two-even">
        <label>
          From
          <input type="time" required value={from} onChange={(event) => setFrom(event.target.value)} />
        </label>
        <label>
          Until
          <input type="time" required value={until} onChange={(event) => setUntil(event.target.value)} />
        </label>
      </div>
      <button type="submit" className="btn" disabled={days.length === 0}>
        Add this window
      </button>
    </form>
  );
}

/** A site's first window, or a freeze. */
function NewPlan(): JSX.Element {
  const cache = useQueryClient();
  const sites = useSites();
  const [site, setSite] = useState('');
  const [reason, setReason] = useState('');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['plans'] }) };
  const setWindows = useMutation({
    mutationFn: (window: DeliveryPlan['windows'][number]) =>
      client.call('windowSet', { params: { site }, body: { windows: [window] } }),
    ...done,
  });
  const freeze = useMutation({
    mutationFn: () =>
      client.call('freezeAdd', { body: { reason, scope: site, time: { repeats: 'never', from, until } } }),
    ...done,
  });
  const failure = [setWindows, freeze].find((act) => act.isError)?.error;
  return (
    <div className="stack">
      <h2>Windows or a freeze</h2>
      <label>
        Site
        <select value={site} onChange={(event) => setSite(event.target.value)}>
          <option value="">choose a site</option>
          {(sites.data ?? []).map((one) => (
            <option key={one.name}>{one.name}</option>
          ))}
        </select>
      </label>
      {failure !== undefined && <Failure error={failure} />}
      {(setWindows.isSuccess || freeze.isSuccess) && <p className="q">It holds from now on.</p>}
      {site !== '' && (
        <>
          <h2>A first window</h2>
          <WindowForm add={(one) => setWindows.mutate(one)} />
          <h2>A freeze</h2>
          <form
            className="stack"
            onSubmit={(event) => {
              event.preventDefault();
              freeze.mutate();
            }}
          >
            <label>
              Reason
              <input required value={reason} onChange={(event) => setReason(event.target.value)} />
            </label>
            <label>
              From, in the site’s zone
              <input type="datetime-local" required value={from} onChange={(event) => setFrom(event.target.value)} />
            </label>
            <label>
              Until
              <input type="datetime-local" required value={until} onChange={(event) => setUntil(event.target.value)} />
            </label>
            <button type="submit" className="btn">
              Freeze {site}
            </button>
          </form>
        </>
      )}
    </div>
  );
}
