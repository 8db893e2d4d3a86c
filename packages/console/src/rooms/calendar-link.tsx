import { useMutation } from '@tanstack/react-query';
import type { JSX } from 'react';
import { LinkOnce } from '../parts/link-once.js';
import { Failure } from '../parts/states.js';
import { client } from '../session.js';

/** The address under which a calendar program follows windows, freezes and deliveries. */
export function CalendarLink(): JSX.Element {
  const make = useMutation({ mutationFn: () => client.call('calendarMake') });
  const end = useMutation({ mutationFn: () => client.call('calendarEnd'), onSuccess: () => make.reset() });
  return (
    <section aria-labelledby="calendar">
      <h2 id="calendar">Calendar</h2>
      {make.data ? (
        <LinkOnce title="Your calendar" link={make.data.url}>
          Windows, freezes and deliveries of all that you may read. It is not shown again; whoever has it reads along.
        </LinkOnce>
      ) : (
        <p className="q">
          {end.isSuccess ? 'The address has ended.' : 'Windows, freezes and deliveries in your own calendar program.'}
        </p>
      )}
      {(make.isError || end.isError) && <Failure error={(make.error ?? end.error) as Error} />}
      <p className="more-acts">
        {!make.data && (
          <button type="button" className="btn" onClick={() => make.mutate()}>
            Make the address
          </button>
        )}
        <button type="button" className="btn" onClick={() => end.mutate()}>
          End former ones
        </button>
      </p>
    </section>
  );
}
