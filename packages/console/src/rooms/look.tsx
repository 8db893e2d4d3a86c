import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import type { GuestRoom, GuestSight, GuestThread } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { type FormEvent, type JSX, useEffect, useRef, useState } from 'react';
import { Button, TextButton } from '../parts/button.js';
import { Door, DoorField, DoorForm } from '../parts/door.js';
import { openWindow } from '../parts/enter.js';
import { Icon } from '../parts/icon.js';
import { Markdown } from '../parts/markdown.js';
import { clock } from '../parts/moments.js';
import { Failure, Loading } from '../parts/states.js';
import { Mark } from '../parts/tile.js';
import { Ago } from '../parts/words.js';
import { client } from '../session.js';

const ROOM = ['guest'];
/** Items that are named before the others are folded. */
const NAMED = 8;
const FOLLOW_MS = 3000;

const isAbout = (error: unknown, kind: string): boolean =>
  error instanceof ServiceProblem && error.problem.type === `tessarion:${kind}`;

/** Where a guest's link leads: what they were asked to look at, without an account. */
export function LookRoom(): JSX.Element {
  const cache = useQueryClient();
  const [passcode, setPasscode] = useState('');
  // The key is taken out of the address, so that it is not passed on with it.
  const key = useRef(location.hash.slice(1));
  const enter = useMutation({
    mutationFn: (given: string) =>
      client.call('guestEnter', { body: { key: key.current, ...(given === '' ? {} : { passcode: given }) } }),
    onSuccess: (room) => {
      history.replaceState(null, '', '/look');
      cache.setQueryData(ROOM, room);
    },
  });
  const begin = enter.mutate;
  useEffect(() => {
    if (key.current !== '') begin('');
    // Another link, opened in the same tab, changes nothing of the page but what stands behind the #.
    const again = (): void => {
      if (location.hash !== '') location.reload();
    };
    addEventListener('hashchange', again);
    return () => removeEventListener('hashchange', again);
  }, [begin]);
  const isIn = key.current === '' || enter.isSuccess;
  const room = useQuery<GuestRoom>({
    queryKey: ROOM,
    queryFn: () => client.call('guestRoom'),
    enabled: isIn,
    refetchInterval: FOLLOW_MS,
  });
  if (room.data) return <Room room={room.data} />;
  const error = room.error ?? enter.error;
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    enter.mutate(passcode);
  };
  return (
    <Door>
      {isAbout(error, 'passcode') || (isAbout(error, 'too-many-tries') && passcode !== '') ? (
        <DoorForm onSubmit={submit}>
          <h1 className="flex items-center gap-12 text-numeral font-stretch-112%">
            <Mark size={28} /> Passcode
          </h1>
          <p className="mb-12 text-ink2">Whoever sent you this link has told you one.</p>
          {passcode !== '' && enter.isError && <Failure error={enter.error} />}
          <DoorField>
            Passcode
            <input
              type="password"
              autoComplete="off"
              autoFocus
              required
              value={passcode}
              onChange={(event) => setPasscode(event.target.value)}
            />
          </DoorField>
          <Button type="submit" main wide className="mt-8" disabled={enter.isPending}>
            Look
          </Button>
        </DoorForm>
      ) : (
        <div className="bg-slab">
          {error ? <Failure error={error} /> : <Loading what="Opening what you were sent" rows={3} />}
        </div>
      )}
    </Door>
  );
}

function Room({ room }: { readonly room: GuestRoom }): JSX.Element {
  const isChoice = room.looks.length > 1;
  return (
    <main className="mx-auto flex w-full max-w-720 flex-col gap-2 pt-16 pb-48 max-desk:py-0">
      <header className="flex flex-col gap-12 bg-slab p-24 max-desk:p-16">
        <p className="flex items-center gap-8 text-ink2">
          <Mark size={20} /> {room.client}
        </p>
        <h1 className="text-numeral/32 font-[650] text-balance">
          {room.name},{' '}
          {isChoice ? `here are ${counted(room.looks.length, 'thing')} to look at` : 'here is something to look at'}
        </h1>
        {room.words !== '' && <p className="max-w-[60ch] wrap-anywhere whitespace-pre-wrap">{room.words}</p>}
        <p className="text-ink3">
          {room.by} sent you this. Your link holds until {clock(room.expiresAt)}.
        </p>
      </header>
      {room.looks.map((look) => (
        <LookSection key={look.position} look={look} room={room} />
      ))}
    </main>
  );
}

const STATES: Record<GuestSight['state'], string> = {
  ready: '',
  making: 'It is being made, and can be looked at in a moment.',
  behind: 'It is being worked on: what you can open is not the newest.',
  delivered: 'It is live.',
  gone: 'There is nothing to look at now.',
};

function LookSection({ look, room }: { readonly look: GuestSight; readonly room: GuestRoom }): JSX.Element {
  const cache = useQueryClient();
  const kept = { onSuccess: (next: GuestRoom) => cache.setQueryData(ROOM, next) };
  const params = { position: look.position };
  const open = useMutation({
    mutationFn: () => openWindow(async () => (await client.call('guestOpen', { params })).url),
  });
  const yes = useMutation({
    mutationFn: () => client.call('guestApprove', { params, body: { revision: look.revision as number } }),
    ...kept,
  });
  const choose = useMutation({ mutationFn: () => client.call('guestChoose', { body: params }), ...kept });
  const isChosen = room.choice === look.position;
  const failure = [open, yes, choose].find((one) => one.isError)?.error;
  const canOpen = look.state === 'ready' || look.state === 'behind';
  return (
    <section
      className={`flex flex-col gap-12 bg-slab p-24 max-desk:p-16 ${isChosen ? 'shadow-[inset_4px_0_0_var(--color-ink)]' : ''}`}
      aria-labelledby={`look-${look.position}`}
    >
      <h2 className="text-[18px]/24 font-[650] wrap-anywhere" id={`look-${look.position}`}>
        {look.title}
      </h2>
      {look.state !== 'ready' && (
        <p className={look.state === 'behind' ? 'text-accent' : 'text-ink2'}>{STATES[look.state]}</p>
      )}
      <div className="flex flex-wrap gap-8">
        {canOpen && (
          <Button main wide className="w-auto flex-[1_1_200px] justify-center" onClick={() => open.mutate()}>
            <Icon name="open" /> Open it
          </Button>
        )}
        {look.mayApprove && !look.yes?.isCurrent && (
          <Button
            wide
            className="w-auto flex-[1_1_200px] justify-center"
            disabled={yes.isPending}
            onClick={() => yes.mutate()}
          >
            <Icon name="check" /> Yes, this may go live
          </Button>
        )}
        {room.looks.length > 1 && !isChosen && (
          <Button
            wide
            className="w-auto flex-[1_1_200px] justify-center"
            disabled={choose.isPending}
            onClick={() => choose.mutate()}
          >
            Choose this one
          </Button>
        )}
      </div>
      {look.yes && (
        <p className={look.yes.isCurrent ? 'font-semibold' : 'text-ink2'}>
          <Icon name="check" /> You said yes <Ago time={look.yes.at} suffix=" ago" />
          {!look.yes.isCurrent && '; it has changed since'}
        </p>
      )}
      {isChosen && (
        <p className="font-semibold">
          <Icon name="check" /> You chose this one
        </p>
      )}
      {failure !== undefined && <Failure error={failure} />}
      <Items look={look} />
      <Talk look={look} />
    </section>
  );
}

/** What would be new, for who wants to know where to look. */
function Items({ look }: { readonly look: GuestSight }): JSX.Element | null {
  const [isWhole, setWhole] = useState(false);
  if (look.items.length === 0) return null;
  const shown = isWhole ? look.items : look.items.slice(0, NAMED);
  return (
    <div>
      <h3 className="text-small/20 font-semibold text-ink2">What changes</h3>
      <ul>
        {shown.map((item, i) => (
          <li
            className="grid grid-cols-[80px_minmax(0,1fr)_auto] gap-8 border-b border-line py-4 wrap-anywhere"
            key={`${item.kind} ${item.title} ${String(i)}`}
          >
            <span className="text-ink3">{item.kind}</span>
            <span>{item.title}</span>
            <span className="text-ink2">{item.change}</span>
          </li>
        ))}
      </ul>
      {look.items.length > shown.length && (
        <TextButton onClick={() => setWhole(true)}>{look.items.length - shown.length} more</TextButton>
      )}
    </div>
  );
}

function Talk({ look }: { readonly look: GuestSight }): JSX.Element {
  return (
    <div className="flex flex-col gap-8">
      <h3 className="text-small/20 font-semibold text-ink2">What do you say?</h3>
      {look.threads.map((thread) => (
        <ThreadView key={thread.id} thread={thread} position={look.position} />
      ))}
      {look.state !== 'gone' && <Saying position={look.position} label="Write something" />}
    </div>
  );
}

function ThreadView({ thread, position }: { readonly thread: GuestThread; readonly position: number }): JSX.Element {
  return (
    <article className="my-8 block max-w-760 border-l-3 border-line py-4 pl-12">
      {thread.comments.map((one) => (
        <div key={one.at}>
          <p className="flex items-baseline gap-8">
            <b>{one.isOwn ? 'You' : one.by}</b>
            <span className="text-ink3">
              <Ago time={one.at} suffix=" ago" />
            </span>
          </p>
          <Markdown text={one.text} />
        </div>
      ))}
      {thread.isResolved ? (
        <p className="text-ink3">Done</p>
      ) : (
        <Saying position={position} thread={thread.id} label="Reply" />
      )}
    </article>
  );
}

function Saying({
  position,
  thread,
  label,
}: {
  readonly position: number;
  readonly thread?: string;
  readonly label: string;
}): JSX.Element {
  const cache = useQueryClient();
  const [text, setText] = useState('');
  const say = useMutation({
    mutationFn: () =>
      client.call('guestSay', { params: { position }, body: { text, ...(thread === undefined ? {} : { thread }) } }),
    onSuccess: (room) => {
      cache.setQueryData(ROOM, room);
      setText('');
    },
  });
  return (
    <form
      className="flex max-w-760 flex-col gap-6"
      onSubmit={(event) => {
        event.preventDefault();
        if (text.trim() !== '') say.mutate();
      }}
    >
      {say.isError && <Failure error={say.error} />}
      <textarea
        aria-label={label}
        placeholder={label}
        rows={thread === undefined ? 3 : 1}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      {(text !== '' || thread === undefined) && (
        <span className="flex flex-row items-center gap-8">
          <Button type="submit" disabled={text.trim() === '' || say.isPending}>
            {thread === undefined ? 'Send' : 'Reply'}
          </Button>
        </span>
      )}
    </form>
  );
}
