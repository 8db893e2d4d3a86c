import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Notice } from '@tessarion/contract';
import { MAIL_WISHES, type MailWish, NOTICE_KINDS } from '@tessarion/core';
import { type JSX, useState } from 'react';
import { areKeysOn, switchKeys } from '../keys.js';
import { setLooks, useLooks } from '../looks.js';
import { Button, TextButton, TextLink } from '../parts/button.js';
import { Tick } from '../parts/field.js';
import { Icon } from '../parts/icon.js';
import { clock } from '../parts/moments.js';
import { Failure, Loading } from '../parts/states.js';
import { Views } from '../parts/views.js';
import { Ago } from '../parts/words.js';
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
      <Looking />
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

/** What of the looks one may choose, in words. */
const LOOKS = [
  { key: 'theme', name: 'Theme', of: { system: 'as the system has it', light: 'light', dark: 'dark' } },
  { key: 'rows', name: 'Rows of lists', of: { close: 'close', usual: 'usual', roomy: 'roomy' } },
  { key: 'clock', name: 'Clock', of: { '24': '24 hours', '12': '12 hours' } },
  { key: 'zone', name: 'Times are of', of: { own: 'here', UTC: 'UTC' } },
] as const;

/** How the console looks and listens in this browser. */
function Looking(): JSX.Element {
  const now = useLooks();
  const [keys, setKeys] = useState(areKeysOn);
  const [isRefused, setRefused] = useState(false);
  const tell = async (wanted: boolean): Promise<void> => {
    if (wanted && (!('Notification' in window) || (await Notification.requestPermission()) !== 'granted')) {
      setRefused(true);
      return;
    }
    setRefused(false);
    setLooks({ desktop: wanted ? 'yes' : 'no' });
  };
  return (
    <section className="max-w-640" aria-labelledby="looking">
      <h2 className="mt-20 mb-4" id="looking">
        In this browser
      </h2>
      {LOOKS.map(({ key, name, of }) => (
        <div
          key={key}
          className="flex min-h-36 flex-wrap items-center justify-between gap-12 border-b border-line py-2 touch:min-h-44"
        >
          <span>{name}</span>
          <Views
            name={name}
            views={Object.entries(of).map(([view, words]) => ({ view, words }))}
            at={now[key]}
            choose={(wanted) => setLooks({ [key]: wanted })}
          />
        </div>
      ))}
      <Tick className="border-b border-line py-6">
        <input
          type="checkbox"
          checked={keys}
          onChange={({ target }) => {
            switchKeys(target.checked);
            setKeys(target.checked);
          }}
        />
        Single keys, such as <kbd>j</kbd> and <kbd>f</kbd>
      </Tick>
      <Tick className="border-b border-line py-6">
        <input type="checkbox" checked={now.desktop === 'yes'} onChange={({ target }) => void tell(target.checked)} />
        Tell on the desktop when what I began has ended
      </Tick>
      {isRefused && <p className="py-4 text-warn">This browser does not let the console tell you anything.</p>}
    </section>
  );
}

const WISHES: Record<MailWish, string> = {
  now: 'at once',
  daily: 'once a day',
  never: 'never',
};

/** What asks for somebody, or went wrong. */
const URGENT: readonly Notice['kind'][] = ['review-asked', 'lapsed', 'blocked', 'hand-over', 'transfer-failed'];

/** Kinds of mail put together; `own` is what fits none of them. */
const PRESETS: readonly {
  readonly preset: string;
  readonly words: string;
  readonly of?: (kind: Notice['kind']) => MailWish;
}[] = [
  { preset: 'little', words: 'only what needs me', of: (kind) => (URGENT.includes(kind) ? 'now' : 'never') },
  { preset: 'normal', words: 'the rest once a day', of: (kind) => (URGENT.includes(kind) ? 'now' : 'daily') },
  { preset: 'all', words: 'all at once', of: () => 'now' },
  { preset: 'none', words: 'nothing', of: () => 'never' },
  { preset: 'own', words: 'as chosen below' },
];

const presetOf = (wishes: Readonly<Record<Notice['kind'], MailWish>>): string =>
  PRESETS.find(
    ({ of }) => of && (Object.keys(NOTICE_KINDS) as Notice['kind'][]).every((kind) => wishes[kind] === of(kind)),
  )?.preset ?? 'own';

function Mail(): JSX.Element {
  const cache = useQueryClient();
  const wishes = useQuery({ queryKey: ['notice wishes'], queryFn: () => client.call('noticeWishes') });
  const wish = useMutation({
    mutationFn: ({ kind, mail }: { kind: Notice['kind']; mail: MailWish }) =>
      client.call('noticeWish', { params: { kind }, body: { mail } }),
    onSuccess: (all) => cache.setQueryData(['notice wishes'], all),
  });
  const preset = useMutation({
    mutationFn: async (wanted: string) => {
      const of = PRESETS.find((one) => one.preset === wanted)?.of;
      if (!of) return;
      for (const kind of Object.keys(NOTICE_KINDS) as Notice['kind'][])
        if (wishes.data?.[kind] !== of(kind))
          cache.setQueryData(
            ['notice wishes'],
            await client.call('noticeWish', { params: { kind }, body: { mail: of(kind) } }),
          );
    },
  });
  if (wishes.isPending) return <Loading what="Reading what is mailed" rows={6} />;
  if (wishes.isLoadingError) return <Failure error={wishes.error} />;
  return (
    <section className="max-w-640" aria-labelledby="mailed">
      <h2 className="mt-20 mb-4" id="mailed">
        Mailed to me, beside the notices here, when
      </h2>
      {wish.isError && <Failure error={wish.error} />}
      <div className="flex min-h-36 flex-wrap items-center justify-between gap-12 border-b border-line py-2">
        <span>Mail me</span>
        <Views
          name="How much is mailed"
          views={PRESETS.map(({ preset, words }) => ({ view: preset, words }))}
          at={presetOf(wishes.data)}
          choose={(wanted) => void preset.mutate(wanted)}
        />
      </div>
      <Disclosure>
        <DisclosureButton className="group flex min-h-36 items-center gap-6 text-ink2 touch:min-h-44">
          One by one <Icon name="down" className="group-data-open:rotate-180" />
        </DisclosureButton>
        <DisclosurePanel as="ul">
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
        </DisclosurePanel>
      </Disclosure>
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
                End this session
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
