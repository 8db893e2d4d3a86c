import { useMutation } from '@tanstack/react-query';
import { type FormEvent, type JSX, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { Failure } from '../parts/states.js';
import { Mark } from '../parts/tile.js';
import { client, queries } from '../session.js';

/** A mosaic laid beside the form; drawn from a fixed pattern, so that it never moves. */
function Mosaic(): JSX.Element {
  const cells = Array.from({ length: 84 }, (_one, i) => ({
    x: (i % 7) * 40,
    y: Math.floor(i / 7) * 40,
    pick: (i * 7 + Math.floor(i / 7) * 3 + ((i * i) % 11)) % 13,
  }));
  return (
    <svg className="mosaic" viewBox="0 0 278 478" aria-hidden="true" preserveAspectRatio="xMidYMid slice">
      {cells.map(({ x, y, pick }) => {
        const at = { transform: `translate(${x} ${y}) scale(2.375)` };
        const key = `${x} ${y}`;
        if (pick < 5)
          return <path key={key} {...at} d="M0,0H16V16H0Z" fill="var(--live)" opacity={pick === 2 ? 0.82 : 1} />;
        if (pick < 8) return <path key={key} {...at} d="M0,0H10L16,6V16H0Z" fill="var(--staging)" />;
        if (pick < 10) return <path key={key} {...at} d="M8,-.5L16.5,8L8,16.5L-.5,8Z" fill="var(--dev)" />;
        if (pick < 12) return <path key={key} {...at} d="M0,0H16V16H0Z" fill="var(--bed)" />;
        return (
          <path
            key={key}
            {...at}
            d="M.7,.7H15.3V15.3H.7Z"
            fill="none"
            stroke="var(--ink3)"
            strokeWidth={0.8}
            strokeDasharray="2.2 1.8"
          />
        );
      })}
    </svg>
  );
}

/** Where to go after signing in: a path of this console, and nothing that a browser would take for another site. */
function ownPath(wanted: string | null): string {
  const to = URL.canParse(wanted ?? '/', location.origin) ? new URL(wanted ?? '/', location.origin) : undefined;
  return to?.origin === location.origin ? `${to.pathname}${to.search}${to.hash}` : '/';
}

export function SignInRoom(): JSX.Element {
  const navigate = useNavigate();
  const [query] = useSearchParams();
  const [mail, setMail] = useState('');
  const [password, setPassword] = useState('');
  const signIn = useMutation({
    mutationFn: () => client.call('signIn', { body: { mail, password } }),
    onSuccess: async () => {
      queries.clear();
      await navigate(ownPath(query.get('to')), { replace: true });
    },
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <main className="door">
      <Mosaic />
      <form className="slab" onSubmit={submit}>
        <h1>
          <Mark size={28} /> Tessarion
        </h1>
        <p className="q">Nothing that visitors or colleagues made is ever lost by a sync.</p>
        {signIn.isError && <Failure error={signIn.error} />}
        <label>
          Mail address
          <input
            type="email"
            autoComplete="username"
            required
            autoFocus
            value={mail}
            onChange={(event) => setMail(event.target.value)}
          />
        </label>
        <label>
          Password
          <input
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </label>
        <button type="submit" className="btn main big" disabled={signIn.isPending}>
          Sign in
        </button>
      </form>
    </main>
  );
}

/** Chooses a password with the key of an invitation, which stands in the address behind the #. */
export function InvitationRoom(): JSX.Element {
  const navigate = useNavigate();
  const [password, setPassword] = useState('');
  const accept = useMutation({
    mutationFn: async () => {
      const { mail } = await client.call('invitationAccept', { body: { key: location.hash.slice(1), password } });
      return client.call('signIn', { body: { mail, password } });
    },
    onSuccess: async () => {
      queries.clear();
      await navigate('/', { replace: true });
    },
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    accept.mutate();
  };
  return (
    <main className="door">
      <Mosaic />
      <form className="slab" onSubmit={submit}>
        <h1>
          <Mark size={28} /> Come in
        </h1>
        <p className="q">Choose a password. This link works once.</p>
        {accept.isError && <Failure error={accept.error} />}
        <label>
          Password, at least 12 characters
          <input
            type="password"
            autoComplete="new-password"
            required
            autoFocus
            minLength={12}
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </label>
        <button type="submit" className="btn main big" disabled={accept.isPending}>
          Come in
        </button>
      </form>
    </main>
  );
}

/** Makes the first administrator, with the one-time key in the address. */
export function FirstRoom(): JSX.Element {
  const navigate = useNavigate();
  const [name, setName] = useState('');
  const [mail, setMail] = useState('');
  const [password, setPassword] = useState('');
  const make = useMutation({
    mutationFn: async () => {
      await client.call('firstAdministrator', { body: { key: location.hash.slice(1), name, mail, password } });
      return client.call('signIn', { body: { mail, password } });
    },
    onSuccess: async () => {
      queries.clear();
      await navigate('/', { replace: true });
    },
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <main className="door">
      <Mosaic />
      <form className="slab" onSubmit={submit}>
        <h1>
          <Mark size={28} /> The first administrator
        </h1>
        <p className="q">This link works once. You will bring the others in.</p>
        {make.isError && <Failure error={make.error} />}
        <label>
          Name
          <input
            autoComplete="name"
            required
            autoFocus
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <label>
          Mail address
          <input
            type="email"
            autoComplete="username"
            required
            value={mail}
            onChange={(event) => setMail(event.target.value)}
          />
        </label>
        <label>
          Password, at least 12 characters
          <input
            type="password"
            autoComplete="new-password"
            required
            minLength={12}
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </label>
        <button type="submit" className="btn main big" disabled={make.isPending}>
          Begin
        </button>
      </form>
    </main>
  );
}
