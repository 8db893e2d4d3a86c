import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Notice } from '@tessarion/contract';
import { MAIL_WISHES, type MailWish, NOTICE_KINDS } from '@tessarion/core';
import type { JSX } from 'react';
import { Button, TextButton, TextLink } from '../parts/button.js';
import { Failure, Loading } from '../parts/states.js';
import { Ago, clock } from '../parts/words.js';
import { client, useMe } from '../session.js';
import { CalendarLink } from './calendar-link.js';
import { NewPassword } from './new-password.js';
import { SecondFactor } from './second-factor.js';
import { Tokens } from './tokens.js';

/** One's own: what is mailed, where one is signed in, and tokens. */
export function SettingsRoom(): JSX.Element {
  return (
    <main className="flex-1 overflow-auto bg-slab px-16 pt-12 pb-32">
      <h1 className="text-title">Settings</h1>
      {/* First: nothing above it comes later and moves it. */}
      <Installation />
      <Mail />
      <NewPassword />
      <SecondFactor />
      <CalendarLink />
      <Sessions />
      <Tokens />
    </main>
  );
}

const FOR_ALL = [
  { to: '/servers', name: 'Servers', words: 'machines where environments live', needs: 'server.manage' },
  { to: '/webhooks', name: 'Webhooks', words: 'tell other programs what happens', needs: 'webhook.manage' },
] as const;

/** What is set up for everybody, for who may. */
function Installation(): JSX.Element | null {
  const me = useMe();
  const rooms = FOR_ALL.filter((one) => me.data?.permissions.includes(one.needs));
  if (rooms.length === 0) return null;
  return (
    <section className="max-w-640" aria-labelledby="installation">
      <h2 className="mt-20 mb-4" id="installation">
        For everybody
      </h2>
      <ul>
        {rooms.map((one) => (
          <li className="border-b border-line py-4" key={one.to}>
            <TextLink to={one.to}>{one.name}</TextLink> <span className="text-ink2">{one.words}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

const WISHES: Record<MailWish, string> = {
  now: 'at once',
  daily: 'once a day',
  never: 'never',
};

function Mail(): JSX.Element {
  const cache = useQueryClient();
  const wishes = useQuery({ queryKey: ['notice wishes'], queryFn: () => client.call('noticeWishes') });
  const wish = useMutation({
    mutationFn: ({ kind, mail }: { kind: Notice['kind']; mail: MailWish }) =>
      client.call('noticeWish', { params: { kind }, body: { mail } }),
    onSuccess: (all) => cache.setQueryData(['notice wishes'], all),
  });
  if (wishes.isPending) return <Loading what="Reading what is mailed" rows={6} />;
  if (wishes.isLoadingError) return <Failure error={wishes.error} />;
  return (
    <section className="max-w-640" aria-labelledby="mailed">
      <h2 className="mt-20 mb-4" id="mailed">
        Mailed to me, beside the notices here, when
      </h2>
      {wish.isError && <Failure error={wish.error} />}
      <ul>
        {(Object.keys(NOTICE_KINDS) as Notice['kind'][]).map((kind) => (
          <li className="border-b border-line py-4" key={kind}>
            <label className="flex items-center justify-between gap-12 max-desk:flex-col max-desk:items-stretch max-desk:gap-4">
              <span>{NOTICE_KINDS[kind]}</span>
              <select
                className="w-200 flex-none max-desk:w-full"
                value={wishes.data[kind]}
                onChange={(event) => wish.mutate({ kind, mail: event.target.value as MailWish })}
              >
                {MAIL_WISHES.map((one) => (
                  <option key={one} value={one}>
                    {WISHES[one]}
                  </option>
                ))}
              </select>
            </label>
          </li>
        ))}
      </ul>
      <DailyMail />
    </section>
  );
}

/** At what time of day what happened is mailed together. */
function DailyMail(): JSX.Element | null {
  const cache = useQueryClient();
  const time = useQuery({ queryKey: ['digest time'], queryFn: () => client.call('digestTime') });
  const set = useMutation({
    mutationFn: (at: string) => client.call('digestTimeSet', { body: { at, zone: OWN_ZONE } }),
    onSuccess: (given) => cache.setQueryData(['digest time'], given),
  });
  if (!time.data) return null;
  const { at, zone } = time.data;
  return (
    <>
      {set.isError && <Failure error={set.error} />}
      <label className="flex items-center justify-between gap-12 py-4 max-desk:flex-col max-desk:items-stretch max-desk:gap-4">
        <span>
          What comes once a day comes at, in {OWN_ZONE}
          {zone !== OWN_ZONE && (
            <span className="text-ink3">
              {' '}
              (now at {at} of {zone})
            </span>
          )}
        </span>
        <input
          className="w-200 flex-none max-desk:w-full"
          type="time"
          key={at}
          defaultValue={zone === OWN_ZONE ? at : ''}
          onBlur={({ target }) =>
            target.value !== '' && (target.value !== at || zone !== OWN_ZONE) && set.mutate(target.value)
          }
        />
      </label>
    </>
  );
}

const OWN_ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

function Sessions(): JSX.Element {
  const cache = useQueryClient();
  const sessions = useQuery({ queryKey: ['sessions'], queryFn: () => client.call('sessionList') });
  const end = useMutation({
    mutationFn: (id: string) => client.call('sessionEnd', { params: { id } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['sessions'] }),
  });
  const endOthers = useMutation({
    mutationFn: () => client.call('sessionsEnd'),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['sessions'] }),
  });
  return (
    <section className="max-w-640" aria-labelledby="sessions">
      <h2 className="mt-20 mb-4" id="sessions">
        Signed in
      </h2>
      {(end.isError || endOthers.isError) && <Failure error={end.error ?? endOthers.error} />}
      <ul>
        {(sessions.data ?? []).map((one) => (
          <li key={one.id} className="flex justify-between gap-8 border-b border-line py-4">
            <span>
              <b>{one.isThis ? 'Here' : (one.from ?? 'Somewhere')}</b>{' '}
              <span className="text-ink2">
                since {clock(one.createdAt)}, seen <Ago time={one.lastSeenAt} suffix=" ago" />
              </span>
            </span>
            {!one.isThis && (
              <TextButton className="flex-none self-baseline" onClick={() => end.mutate(one.id)}>
                End it
              </TextButton>
            )}
          </li>
        ))}
      </ul>
      {(sessions.data ?? []).some((one) => !one.isThis) && (
        <Button disabled={endOthers.isPending} onClick={() => endOthers.mutate()}>
          End all others
        </Button>
      )}
    </section>
  );
}
