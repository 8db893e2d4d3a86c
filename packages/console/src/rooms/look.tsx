import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import type { GuestRoom, GuestSight, GuestThread } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { type FormEvent, type JSX, useEffect, useRef, useState } from 'react';
import { openWindow } from '../parts/enter.js';
import { Icon } from '../parts/icon.js';
import { Markdown } from '../parts/markdown.js';
import { Failure, Loading } from '../parts/states.js';
import { Mark } from '../parts/tile.js';
import { Ago, clock } from '../parts/words.js';
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
    <main className="door plain-door">
      {isAbout(error, 'passcode') || (isAbout(error, 'too-many-tries') && passcode !== '') ? (
        <form className="slab" onSubmit={submit}>
          <h1>
            <Mark size={28} /> Passcode
          </h1>
          <p className="q">Whoever sent you this link has told you one.</p>
          {passcode !== '' && enter.isError && <Failure error={enter.error} />}
          <label>
            Passcode
            <input
              type="password"
              autoComplete="off"
              autoFocus
              required
              value={passcode}
              onChange={(event) => setPasscode(event.target.value)}
            />
          </label>
          <button type="submit" className="btn main big" disabled={enter.isPending}>
            Look
          </button>
        </form>
      ) : (
        <div className="slab">
          {error ? <Failure error={error} /> : <Loading what="Opening what you were sent" rows={3} />}
        </div>
      )}
    </main>
  );
}

function Room({ room }: { readonly room: GuestRoom }): JSX.Element {
  const isChoice = room.looks.length > 1;
  return (
    <main className="look">
      <header className="slab">
        <p className="q whose">
          <Mark size={20} /> {room.client}
        </p>
        <h1>
          {room.name},{' '}
          {isChoice ? `here are ${counted(room.looks.length, 'thing')} to look at` : 'here is something to look at'}
        </h1>
        {room.words !== '' && <p className="words">{room.words}</p>}
        <p className="qq">
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
    <section className={`slab one-look ${isChosen ? 'chosen' : ''}`} aria-labelledby={`look-${look.position}`}>
      <h2 id={`look-${look.position}`}>{look.title}</h2>
      {look.state !== 'ready' && <p className={look.state === 'behind' ? 'acc' : 'q'}>{STATES[look.state]}</p>}
      <div className="look-acts">
        {canOpen && (
          <button type="button" className="btn main big" onClick={() => open.mutate()}>
            <Icon name="open" /> Open it
          </button>
        )}
        {look.mayApprove && !look.yes?.isCurrent && (
          <button type="button" className="btn big" disabled={yes.isPending} onClick={() => yes.mutate()}>
            <Icon name="check" /> Yes, this may go live
          </button>
        )}
        {room.looks.length > 1 && !isChosen && (
          <button type="button" className="btn big" disabled={choose.isPending} onClick={() => choose.mutate()}>
            Choose this one
          </button>
        )}
      </div>
      {look.yes && (
        <p className={look.yes.isCurrent ? 'said' : 'q'}>
          <Icon name="check" /> You said yes <Ago time={look.yes.at} suffix=" ago" />
          {!look.yes.isCurrent && '; it has changed since'}
        </p>
      )}
      {isChosen && (
        <p className="said">
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
      <h3>What changes</h3>
      <ul className="plain changes">
        {shown.map((item, i) => (
          <li key={`${item.kind} ${item.title} ${String(i)}`}>
            <span className="qq">{item.kind}</span>
            <span>{item.title}</span>
            <span className="q">{item.change}</span>
          </li>
        ))}
      </ul>
      {look.items.length > shown.length && (
        <button type="button" className="bare-link" onClick={() => setWhole(true)}>
          {look.items.length - shown.length} more
        </button>
      )}
    </div>
  );
}

function Talk({ look }: { readonly look: GuestSight }): JSX.Element {
  return (
    <div className="look-talk">
      <h3>What do you say?</h3>
      {look.threads.map((thread) => (
        <ThreadView key={thread.id} thread={thread} position={look.position} />
      ))}
      {look.state !== 'gone' && <Saying position={look.position} label="Write something" />}
    </div>
  );
}

function ThreadView({ thread, position }: { readonly thread: GuestThread; readonly position: number }): JSX.Element {
  return (
    <article className="thread">
      {thread.comments.map((one) => (
        <div key={one.at} className="cm">
          <p className="by">
            <b>{one.isOwn ? 'You' : one.by}</b>
            <span className="qq">
              <Ago time={one.at} suffix=" ago" />
            </span>
          </p>
          <Markdown text={one.text} />
        </div>
      ))}
      {thread.isResolved ? <p className="qq">Done</p> : <Saying position={position} thread={thread.id} label="Reply" />}
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
      className="writing"
      onSubmit={(event) => {
        event.preventDefault();
        if (text.trim() !== '') say.mutate();
      }}
    >
      {say.isError && <Failure error={say.error} />}
      <textarea
        className="ta"
        aria-label={label}
        placeholder={label}
        rows={thread === undefined ? 3 : 1}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      {(text !== '' || thread === undefined) && (
        <span className="eb">
          <button type="submit" className="btn" disabled={text.trim() === '' || say.isPending}>
            {thread === undefined ? 'Send' : 'Reply'}
          </button>
        </span>
      )}
    </form>
  );
}
