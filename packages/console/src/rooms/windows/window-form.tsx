import type { DeliveryPlan } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
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
