import type { JSX } from 'react';
import type { Outage } from '../session.js';
import { Button } from './button.js';
import { clock } from './moments.js';
import { useNow } from './words.js';

/** Says that the service is away and what one sees is of then, or that changes do not come by themselves. */
export function OutageStrip({ outage, again }: { readonly outage: Outage; readonly again: () => void }): JSX.Element {
  const now = useNow(1000);
  const left = Math.max(0, Math.ceil((outage.nextAt - now) / 1000));
  return (
    <div className="flex min-h-36 items-center gap-12 bg-warn-tint px-16 py-2 text-ink" role="status">
      <p className="flex-1">
        <b>{outage.isReached ? 'Changes are not followed' : 'Not connected'}</b> since{' '}
        {clock(new Date(outage.since).toISOString())}; what you see is of then, and what you write stays.
      </p>
      <span className="text-ink2 max-desk:hidden" aria-hidden="true">
        {left > 0 ? `Trying again in ${left} s` : 'Trying again'}
      </span>
      <Button onClick={again}>Try now</Button>
    </div>
  );
}
