import type { JSX } from 'react';
import type { Outage } from '../session.js';
import { clock, useNow } from './words.js';

/** Says that the service is away and what one sees is of then, or that changes do not come by themselves. */
export function OutageStrip({ outage, again }: { readonly outage: Outage; readonly again: () => void }): JSX.Element {
  const now = useNow(1000);
  const left = Math.max(0, Math.ceil((outage.nextAt - now) / 1000));
  return (
    <div className="outage" role="status">
      <p>
        <b>{outage.isReached ? 'Changes are not followed' : 'Not connected'}</b> since{' '}
        {clock(new Date(outage.since).toISOString())}; what you see is of then, and what you write stays.
      </p>
      <span aria-hidden="true">{left > 0 ? `Trying again in ${left} s` : 'Trying again'}</span>
      <button type="button" className="btn" onClick={again}>
        Try now
      </button>
    </div>
  );
}
