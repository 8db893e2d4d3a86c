import { useMutation } from '@tanstack/react-query';
import type { Notice } from '@tessarion/contract';
import { NOTICE_KINDS } from '@tessarion/core';
import type { JSX } from 'react';
import { useParams } from 'react-router';
import { Button } from '../parts/button.js';
import { Door, DoorForm } from '../parts/door.js';
import { Failure } from '../parts/states.js';
import { Mark } from '../parts/tile.js';
import { client } from '../session.js';

/** Where the link of a mail leads that ends such mails; a mail program that looks at links ends nothing. */
export function StopMailRoom(): JSX.Element {
  const { person = '', kind = '' } = useParams();
  const stop = useMutation({
    mutationFn: () =>
      client.call('mailStop', {
        body: { person, kind: kind as Notice['kind'] | 'digest', key: location.hash.slice(1) },
      }),
  });
  return (
    <Door>
      <DoorForm
        onSubmit={(event) => {
          event.preventDefault();
          stop.mutate();
        }}
      >
        <h1 className="flex items-center gap-12 text-numeral font-stretch-112%">
          <Mark size={28} /> Mail
        </h1>
        {stop.isSuccess ? (
          <p className="mb-12">No more of these mails come. In the console you are told as before.</p>
        ) : (
          <>
            <p className="mb-12">
              {kind === 'digest'
                ? 'You have things mailed once a day.'
                : `You get these because ${NOTICE_KINDS[kind as Notice['kind']] ?? 'you work here'}.`}
            </p>
            {stop.isError && <Failure error={stop.error} />}
            <Button type="submit" main wide className="mt-8" disabled={stop.isPending}>
              No more of these
            </Button>
          </>
        )}
      </DoorForm>
    </Door>
  );
}
