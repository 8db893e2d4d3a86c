import { useMutation } from '@tanstack/react-query';
import type { JSX } from 'react';
import { Button } from '../parts/button.js';
import { LinkOnce } from '../parts/link-once.js';
import { Failure } from '../parts/states.js';
import { client } from '../session.js';

/** The address under which a calendar program follows windows, freezes and deliveries. */
export function CalendarLink(): JSX.Element {
  const make = useMutation({ mutationFn: () => client.call('calendarMake') });
  const end = useMutation({ mutationFn: () => client.call('calendarEnd'), onSuccess: () => make.reset() });
  return (
    <section className="max-w-640" aria-labelledby="calendar">
      <h2 className="mt-20 mb-4" id="calendar">
        Calendar
      </h2>
      {make.data ? (
        <LinkOnce title="Your calendar" link={make.data.url}>
          Windows, freezes and deliveries of all that you may read. It is not shown again; whoever has it reads along.
        </LinkOnce>
      ) : (
        <p className="text-ink2">
          {end.isSuccess ? 'The address has ended.' : 'Windows, freezes and deliveries in your own calendar program.'}
        </p>
      )}
      {(make.isError || end.isError) && <Failure error={(make.error ?? end.error) as Error} />}
      <p className="flex flex-wrap gap-8">
        {!make.data && <Button onClick={() => make.mutate()}>Make the address</Button>}
        <Button onClick={() => end.mutate()}>End former ones</Button>
      </p>
    </section>
  );
}
