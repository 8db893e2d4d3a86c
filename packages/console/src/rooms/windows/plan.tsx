import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { DeliveryPlan } from '@tessarion/contract';
import { momentWords } from '@tessarion/core';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { TextButton } from '../../parts/button.js';
import { clock } from '../../parts/moments.js';
import { Failure } from '../../parts/states.js';
import { client } from '../../session.js';
import { WindowForm } from './window-form.js';
import { daysText } from './words.js';

const LINE = 'flex items-baseline justify-between gap-8 border-b border-line py-4';

/** Windows, freezes and deliveries of one site. */
export function Plan({ plan, mayManage }: { readonly plan: DeliveryPlan; readonly mayManage: boolean }): JSX.Element {
  const cache = useQueryClient();
  const done = { onSettled: () => cache.invalidateQueries({ queryKey: ['plans'] }) };
  const setWindows = useMutation({
    mutationFn: (windows: DeliveryPlan['windows']) =>
      client.call('windowSet', { params: { site: plan.site }, body: { windows }, etag: plan.etag }),
    ...done,
  });
  const lift = useMutation({ mutationFn: (id: string) => client.call('freezeRemove', { params: { id } }), ...done });
  const failure = [setWindows, lift].find((act) => act.isError)?.error;
  return (
    <div className="flex flex-col gap-8">
      <h2 className="text-[14px]/24">
        <Link to={`/sites/${plan.site}`}>{plan.site}</Link>
      </h2>
      <p className="text-ink2">
        {momentWords(plan.moment, clock)}; times of {plan.timeZone}
      </p>
      {failure !== undefined && <Failure error={failure} />}
      <ul>
        {plan.windows.map((one, i) => (
          <li key={`${one.from} ${one.days.join()}`} className={LINE}>
            <span>
              <b>
                {one.from}–{one.until}
              </b>{' '}
              <span className="text-ink2">{daysText(one.days)}</span>
            </span>
            {mayManage && (
              <TextButton
                className="flex-none self-baseline"
                onClick={() => setWindows.mutate(plan.windows.filter((_one, j) => j !== i))}
              >
                Take out
              </TextButton>
            )}
          </li>
        ))}
        {plan.windows.length === 0 && (
          <li className="py-4 text-ink2">No windows: it is allowed at all times but in freezes.</li>
        )}
      </ul>
      <Quiet plan={plan} take={mayManage ? (one) => setWindows.mutate([...plan.windows, one]) : undefined} />
      {mayManage && <WindowForm add={(one) => setWindows.mutate([...plan.windows, one])} />}
      {plan.freezes.length > 0 && <h2 className="mt-8">Freezes</h2>}
      <ul>
        {plan.freezes.map((one) => (
          <li key={one.id} className={LINE}>
            <span>
              <b>{one.reason}</b>{' '}
              <span className="text-ink2">
                {one.time.from.replace('T', ' ')} to {one.time.until.replace('T', ' ')}
                {one.time.repeats === 'yearly' ? ', each year' : ''} · for{' '}
                {one.scope.replace(/^client:/, '').replace(/^tag:/, 'all with the tag ')}
              </span>
            </span>
            {mayManage && (
              <TextButton className="flex-none self-baseline" onClick={() => lift.mutate(one.id)}>
                Lift
              </TextButton>
            )}
          </li>
        ))}
      </ul>
      {plan.deliveries.length > 0 && <h2 className="mt-8">Deliveries</h2>}
      <ul>
        {plan.deliveries.map((one) => (
          <li key={one.request} className="flex flex-col border-b border-line py-4">
            <Link to={`/requests/${one.request}`}>
              <b>{one.title}</b>
            </Link>
            <span className="text-ink2">{clock(one.at)}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** When few visitors come, as a window to be taken over. */
function Quiet({
  plan,
  take,
}: {
  readonly plan: DeliveryPlan;
  readonly take: ((window: DeliveryPlan['windows'][number]) => void) | undefined;
}): JSX.Element | null {
  const quiet = useQuery({
    queryKey: ['quiet', plan.site],
    queryFn: () => client.call('quietHours', { params: { site: plan.site } }),
    staleTime: 3_600_000,
  });
  const proposal = quiet.data?.proposal;
  if (!proposal) return null;
  const { window, quiet: few, usual } = proposal;
  const isTaken = plan.windows.some((one) => one.from === window.from && one.until === window.until);
  return (
    <p className="text-ink2">
      Few visitors come from {window.from} to {window.until}, {daysText(window.days)}: {few} requests an hour, where{' '}
      {usual} are usual. {take && !isTaken && <TextButton onClick={() => take(window)}>Make it a window</TextButton>}
    </p>
  );
}
