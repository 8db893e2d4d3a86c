import type { DeliveryPlan } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Button } from '../../parts/button.js';
import { Field, Tick } from '../../parts/field.js';
import { NAMES } from './words.js';

/** Days of the week and the hours between which one may deliver. */
export function WindowForm({ add }: { readonly add: (window: DeliveryPlan['windows'][number]) => void }): JSX.Element {
  const [days, setDays] = useState<readonly number[]>([1, 2, 3, 4]);
  const [from, setFrom] = useState('22:00');
  const [until, setUntil] = useState('02:00');
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (days.length > 0) add({ days: [...days].sort(), from, until });
  };
  return (
    <form className="flex flex-col gap-8" onSubmit={submit}>
      <fieldset className="flex flex-wrap gap-x-12 gap-y-4">
        <legend className="text-small text-ink2">Days</legend>
        {NAMES.map((name, i) => (
          <Tick className="py-0 text-small text-ink2" key={name}>
            <input
              type="checkbox"
              checked={days.includes(i + 1)}
              onChange={() => setDays(days.includes(i + 1) ? days.filter((day) => day !== i + 1) : [...days, i + 1])}
            />
            {name}
          </Tick>
        ))}
      </fieldset>
      <div className="grid grid-cols-[1fr_1fr] gap-8">
        <Field>
          From
          <input type="time" required value={from} onChange={(event) => setFrom(event.target.value)} />
        </Field>
        <Field>
          Until
          <input type="time" required value={until} onChange={(event) => setUntil(event.target.value)} />
        </Field>
      </div>
      <Button type="submit" className="self-start" disabled={days.length === 0}>
        Add this window
      </Button>
    </form>
  );
}
