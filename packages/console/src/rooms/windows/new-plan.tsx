import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { DeliveryPlan, FleetSite } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Button } from '../../parts/button.js';
import { Field } from '../../parts/field.js';
import { FindChoice, type Option } from '../../parts/find-choice.js';
import { Failure } from '../../parts/states.js';
import { client, useFleet } from '../../session.js';
import { WindowForm } from './window-form.js';

/** A site, for windows or a freeze of its own; or several, for a freeze. */
function placesOf(sites: readonly FleetSite[]): Option[] {
  const among = (names: readonly string[]): string[] => [...new Set(names)].sort();
  return [
    ...sites.map(({ name }) => ({ value: name, words: name, kind: 'site' })),
    { value: 'everything', words: 'everything', kind: 'freeze' },
    ...among(sites.map((one) => one.client)).map((one) => ({
      value: `client:${one}`,
      words: `all of ${one}`,
      kind: 'freeze',
    })),
    ...among(sites.flatMap((one) => one.tags)).map((one) => ({
      value: `tag:${one}`,
      words: `all with the tag ${one}`,
      kind: 'freeze',
    })),
  ];
}

/** A window more for a site, or a freeze. */
export function NewPlan(): JSX.Element {
  const cache = useQueryClient();
  const sites = useFleet();
  const [site, setSite] = useState('');
  const [reason, setReason] = useState('');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  const [repeats, setRepeats] = useState<'never' | 'yearly'>('never');
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['plans'] }) };
  const setWindows = useMutation({
    mutationFn: async (window: DeliveryPlan['windows'][number]) => {
      const { windows, etag } = await client.call('deliveryPlan', { params: { site } });
      return client.call('windowSet', { params: { site }, body: { windows: [...windows, window] }, etag });
    },
    ...done,
  });
  const freeze = useMutation({
    mutationFn: () =>
      client.call('freezeAdd', {
        body: {
          reason,
          scope: site,
          // The day alone matters of one that comes each year.
          time:
            repeats === 'never' ? { repeats, from, until } : { repeats, from: from.slice(5), until: until.slice(5) },
        },
      }),
    ...done,
  });
  const failure = [setWindows, freeze].find((act) => act.isError)?.error;
  const isSeveral = site === 'everything' || /^(?:tag|client):/.test(site);
  const kindOfTime = repeats === 'never' ? 'datetime-local' : 'date';
  return (
    <div className="flex flex-col gap-8">
      <h2 className="mb-4 text-[14px]/24">Windows or a freeze</h2>
      <FindChoice name="For" value={site} choose={setSite} none="choose" options={placesOf(sites.data ?? [])} />
      {failure !== undefined && <Failure error={failure} />}
      {(setWindows.isSuccess || freeze.isSuccess) && <p className="text-ink2">It holds from now on.</p>}
      {site !== '' && (
        <>
          {!isSeveral && (
            <>
              <h2 className="mt-8 mb-4 text-[14px]/24">A window</h2>
              <WindowForm add={(one) => setWindows.mutate(one)} />
            </>
          )}
          <h2 className="mt-8 mb-4 text-[14px]/24">A freeze</h2>
          <form
            className="flex flex-col gap-8"
            onSubmit={(event) => {
              event.preventDefault();
              freeze.mutate();
            }}
          >
            <Field>
              Reason
              <input required value={reason} onChange={(event) => setReason(event.target.value)} />
            </Field>
            <Field>
              How often
              <select
                value={repeats}
                onChange={(event) => {
                  setRepeats(event.target.value as typeof repeats);
                  setFrom('');
                  setUntil('');
                }}
              >
                <option value="never">once</option>
                <option value="yearly">each year</option>
              </select>
            </Field>
            <Field>
              {repeats === 'never' ? 'From, in the site’s zone' : 'From this day, whatever the year'}
              <input type={kindOfTime} required value={from} onChange={(event) => setFrom(event.target.value)} />
            </Field>
            <Field>
              {repeats === 'never' ? 'Until' : 'Up to and with'}
              <input type={kindOfTime} required value={until} onChange={(event) => setUntil(event.target.value)} />
            </Field>
            <Button type="submit" className="self-start">
              Freeze {site.replace(/^tag:/, 'all with the tag ').replace(/^client:/, 'all of ')}
            </Button>
          </form>
        </>
      )}
    </div>
  );
}
