import { useMutation, useQuery } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import { isSignInProblem, SIGN_IN_PROBLEMS } from '@tessarion/contract';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { Button, buttonLook } from '../parts/button.js';
import { Door, DoorField, DoorForm } from '../parts/door.js';
import { Failure } from '../parts/states.js';
import { Mark } from '../parts/tile.js';
import { useTitle } from '../parts/use-title.js';
import { client, queries } from '../session.js';

/** A mosaic laid beside the form; drawn from a fixed pattern, so that it never moves. */
function Mosaic(): JSX.Element {
  const cells = Array.from({ length: 84 }, (_one, i) => ({
    x: (i % 7) * 40,
    y: Math.floor(i / 7) * 40,
    pick: (i * 7 + Math.floor(i / 7) * 3 + ((i * i) % 11)) % 13,
  }));
  return (
    <svg
      className="block h-dvh w-full bg-slab max-desk:h-96"
      viewBox="0 0 278 478"
      aria-hidden="true"
      preserveAspectRatio="xMidYMid slice"
    >
      {cells.map(({ x, y, pick }) => {
        const at = { transform: `translate(${x} ${y}) scale(2.375)` };
        const key = `${x} ${y}`;
        if (pick < 5)
          return <path key={key} {...at} d="M0,0H16V16H0Z" fill="var(--color-live)" opacity={pick === 2 ? 0.82 : 1} />;
        if (pick < 8) return <path key={key} {...at} d="M0,0H10L16,6V16H0Z" fill="var(--color-staging)" />;
        if (pick < 10) return <path key={key} {...at} d="M8,-.5L16.5,8L8,16.5L-.5,8Z" fill="var(--color-dev)" />;
        if (pick < 12) return <path key={key} {...at} d="M0,0H16V16H0Z" fill="var(--color-bed)" />;
        return (
          <path
            key={key}
            {...at}
            d="M.7,.7H15.3V15.3H.7Z"
            fill="none"
            stroke="var(--color-ink3)"
            strokeWidth={0.8}
            strokeDasharray="2.2 1.8"
          />
        );
      })}
    </svg>
  );
}

/** A form at the door: what it is for, what went wrong, its fields and its button. */
function DoorRoom({
  title,
  words,
  error,
  button,
  isPending,
  act,
  children,
  below,
}: {
  readonly title: string;
  readonly words: string;
  readonly error: ReactNode;
  readonly button: string;
  readonly isPending: boolean;
  readonly act: () => void;
  readonly children: ReactNode;
  readonly below?: ReactNode;
}): JSX.Element {
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    act();
  };
  return (
    <Door>
      <Mosaic />
      <DoorForm onSubmit={submit}>
        <h1 className="flex items-center gap-12 text-numeral font-stretch-112%">
          <Mark size={28} /> {title}
        </h1>
        <p className="mb-12 text-ink2">{words}</p>
        {error}
        {children}
        <Button type="submit" main wide className="mt-8" disabled={isPending}>
          {button}
        </Button>
        {below}
      </DoorForm>
    </Door>
  );
}

interface Typed {
  readonly value: string;
  readonly type: (value: string) => void;
  /** Whether one begins to type here. */
  readonly isFirst?: boolean;
}

function MailField({ value, type, isFirst = false }: Typed): JSX.Element {
  return (
    <DoorField>
      Mail address
      <input
        type="email"
        autoComplete="username"
        required
        autoFocus={isFirst}
        value={value}
        onChange={(event) => type(event.target.value)}
      />
    </DoorField>
  );
}

/** Where to go after signing in: a path of this console, and nothing that a browser would take for another site. */
function ownPath(wanted: string | null): string {
  const to = URL.canParse(wanted ?? '/', location.origin) ? new URL(wanted ?? '/', location.origin) : undefined;
  return to?.origin === location.origin && !to.pathname.startsWith('//') ? `${to.pathname}${to.search}${to.hash}` : '/';
}

const wantsCode = (error: unknown): boolean =>
  error instanceof ServiceProblem && error.problem.type === 'tessarion:second-factor';

/** Where one signs in: with a password, a code where it is asked for, or by a provider. */
export function SignInRoom(): JSX.Element {
  useTitle('Sign in');
  const navigate = useNavigate();
  const [query] = useSearchParams();
  const problem = query.get('problem') ?? '';
  const [mail, setMail] = useState('');
  const [password, setPassword] = useState('');
  const [code, setCode] = useState<string>();
  const ways = useQuery({ queryKey: ['sign-in ways'], queryFn: () => client.call('signInWays') });
  const signIn = useMutation({
    mutationFn: () => client.call('signIn', { body: { mail, password, ...(code === undefined ? {} : { code }) } }),
    onSuccess: async () => {
      queries.clear();
      await navigate(ownPath(query.get('to')), { replace: true });
    },
    // Asked for once the password was right; what is wrong about a code is said from then on.
    onError: (error) => wantsCode(error) && setCode((known) => known ?? ''),
  });
  const isFirstAsk = wantsCode(signIn.error) && (code ?? '') === '';
  return (
    <DoorRoom
      title="Tessarion"
      words="Nothing that visitors or colleagues made is ever lost by a sync."
      error={
        signIn.isError ? (
          !isFirstAsk && <Failure error={signIn.error} />
        ) : isSignInProblem(problem) ? (
          <p className="border-l-3 border-danger bg-danger-tint px-14 py-10" role="alert">
            {SIGN_IN_PROBLEMS[problem]}
          </p>
        ) : null
      }
      button="Sign in"
      isPending={signIn.isPending}
      act={() => signIn.mutate()}
      below={
        <>
          {ways.data?.provider && (
            <a
              className={buttonLook({ wide: true })}
              href={`/api/v1/sign-in/provider?to=${encodeURIComponent(ownPath(query.get('to')))}`}
            >
              Sign in with {ways.data.provider}
            </a>
          )}
          <p className="text-small text-ink3">
            Who has forgotten a password is given a new link by whoever gives roles here.
          </p>
        </>
      }
    >
      <MailField value={mail} type={setMail} isFirst />
      <DoorField>
        Password
        <input
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
      </DoorField>
      {code !== undefined && (
        <DoorField>
          Code of your second factor, or a recovery code
          <input
            autoComplete="one-time-code"
            required
            autoFocus
            maxLength={40}
            value={code}
            onChange={(event) => setCode(event.target.value)}
          />
        </DoorField>
      )}
    </DoorRoom>
  );
}

function NewPassword({ value, type, isFirst = false }: Typed): JSX.Element {
  return (
    <DoorField>
      Password, at least 12 characters
      <input
        type="password"
        autoComplete="new-password"
        required
        autoFocus={isFirst}
        minLength={12}
        value={value}
        onChange={(event) => type(event.target.value)}
      />
    </DoorField>
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
  return (
    <DoorRoom
      title="Come in"
      words="Choose a password. This link works once."
      error={accept.isError && <Failure error={accept.error} />}
      button="Come in"
      isPending={accept.isPending}
      act={() => accept.mutate()}
    >
      <NewPassword value={password} type={setPassword} isFirst />
    </DoorRoom>
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
  return (
    <DoorRoom
      title="The first administrator"
      words="This link works once. You will bring the others in."
      error={make.isError && <Failure error={make.error} />}
      button="Begin"
      isPending={make.isPending}
      act={() => make.mutate()}
    >
      <DoorField>
        Name
        <input autoComplete="name" required autoFocus value={name} onChange={(event) => setName(event.target.value)} />
      </DoorField>
      <MailField value={mail} type={setMail} />
      <NewPassword value={password} type={setPassword} />
    </DoorRoom>
  );
}
