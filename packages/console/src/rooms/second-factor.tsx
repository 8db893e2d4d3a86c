import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Button } from '../parts/button.js';
import { Field } from '../parts/field.js';
import { clock } from '../parts/moments.js';
import { Failure } from '../parts/states.js';
import { client } from '../session.js';

/** A second factor beside the password: set up, codes for when it is lost, ended. */
export function SecondFactor(): JSX.Element {
  const cache = useQueryClient();
  const factor = useQuery({ queryKey: ['second factor'], queryFn: () => client.call('factorShow') });
  const [what, setWhat] = useState<'end' | 'codes' | 'begin'>();
  const done = (): void => {
    setWhat(undefined);
    void cache.invalidateQueries({ queryKey: ['second factor'] });
  };
  const begin = useMutation({ mutationFn: (password: string) => client.call('factorBegin', { body: { password } }) });
  const confirm = useMutation({
    mutationFn: (code: string) => client.call('factorConfirm', { body: { code } }),
    onSuccess: done,
  });
  const codes = useMutation({
    mutationFn: (code: string) => client.call('factorCodes', { body: { code } }),
    onSuccess: done,
  });
  const end = useMutation({
    mutationFn: (code: string) => client.call('factorEnd', { body: { code } }),
    onSuccess: done,
  });
  const shown = codes.data?.codes ?? confirm.data?.codes;
  const isOn = factor.data?.isOn === true;
  return (
    <section className="max-w-640" aria-labelledby="factor">
      <h2 className="mt-20 mb-4" id="factor">
        Second factor
      </h2>
      {factor.isError && <Failure error={factor.error} />}
      {isOn ? (
        <p>
          Codes of your own device are asked for since {clock(factor.data?.since ?? '')}.{' '}
          <span className={factor.data?.recoveryCodes === 0 ? 'font-semibold text-warn' : 'text-ink2'}>
            {factor.data?.recoveryCodes} recovery codes are left.
          </span>
        </p>
      ) : (
        <p className="text-ink2">
          Whoever knows your password can sign in. With a second factor they also need a code that only your own device
          shows.
        </p>
      )}
      {shown && isOn && (
        <div className="flex flex-col gap-8">
          <p>
            <b>Recovery codes.</b> Each works once, when your device is lost. They are not shown again.
          </p>
          <pre className="max-w-360 [columns:2] mono select-all">{shown.join('\n')}</pre>
        </div>
      )}
      {what === undefined && (
        <p className="flex flex-wrap gap-8">
          {isOn ? (
            <>
              <Button onClick={() => setWhat('codes')}>New recovery codes</Button>
              <Button onClick={() => setWhat('end')}>End it</Button>
            </>
          ) : (
            <Button onClick={() => setWhat('begin')}>Set it up</Button>
          )}
        </p>
      )}
      {what === 'begin' && !begin.data && (
        <Asking
          label="Your password"
          type="password"
          button="Go on"
          error={begin.error}
          send={(password) => begin.mutate(password)}
          leave={() => setWhat(undefined)}
        />
      )}
      {what === 'begin' && begin.data && (
        <Asking
          label="The code that it shows"
          type="code"
          button="Ask for it from now on"
          error={confirm.error}
          send={(code) => confirm.mutate(code)}
          leave={() => setWhat(undefined)}
        >
          <p className="text-ink2">Scan this with a program for time-based codes, or type the key into it.</p>
          <img
            className="h-176 w-176 bg-[#fff]"
            alt="Key to be scanned"
            src={`data:image/svg+xml;utf8,${encodeURIComponent(begin.data.picture)}`}
          />
          <p className="mono">{begin.data.secret.replaceAll(/(.{4})(?=.)/g, '$1 ')}</p>
        </Asking>
      )}
      {(what === 'end' || what === 'codes') && (
        <Asking
          label="A code of it, or a recovery code"
          type="code"
          button={what === 'end' ? 'Ask for no code any more' : 'Make new codes'}
          error={what === 'end' ? end.error : codes.error}
          send={(code) => (what === 'end' ? end : codes).mutate(code)}
          leave={() => setWhat(undefined)}
        />
      )}
    </section>
  );
}

function Asking({
  label,
  type,
  button,
  error,
  send,
  leave,
  children,
}: {
  readonly label: string;
  readonly type: 'password' | 'code';
  readonly button: string;
  readonly error: Error | null;
  readonly send: (text: string) => void;
  readonly leave: () => void;
  readonly children?: ReactNode;
}): JSX.Element {
  const [text, setText] = useState('');
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    send(text);
  };
  return (
    <form aria-label="A second factor" className="mt-8 flex max-w-360 flex-col gap-8" onSubmit={submit}>
      {children}
      {error && <Failure error={error} />}
      <Field>
        {label}
        <input
          type={type === 'password' ? 'password' : 'text'}
          autoComplete={type === 'password' ? 'current-password' : 'one-time-code'}
          autoFocus
          required
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </Field>
      <div className="flex flex-wrap gap-8">
        <Button type="submit" main>
          {button}
        </Button>
        <Button onClick={leave}>Leave it</Button>
      </div>
    </form>
  );
}
