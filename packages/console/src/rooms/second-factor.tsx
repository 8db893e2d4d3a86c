import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Failure } from '../parts/states.js';
import { clock } from '../parts/words.js';
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
    <section aria-labelledby="factor">
      <h2 id="factor">Second factor</h2>
      {factor.isError && <Failure error={factor.error} />}
      {isOn ? (
        <p>
          Codes of your own device are asked for since {clock(factor.data?.since ?? '')}.{' '}
          <span className={factor.data?.recoveryCodes === 0 ? 'wn-text' : 'q'}>
            {factor.data?.recoveryCodes} recovery codes are left.
          </span>
        </p>
      ) : (
        <p className="q">
          Whoever knows your password can sign in. With a second factor they also need a code that only your own device
          shows.
        </p>
      )}
      {shown && isOn && (
        <div className="stack">
          <p>
            <b>Recovery codes.</b> Each works once, when your device is lost. They are not shown again.
          </p>
          <pre className="mono codes">{shown.join('\n')}</pre>
        </div>
      )}
      {what === undefined && (
        <p className="more-acts">
          {isOn ? (
            <>
              <button type="button" className="btn" onClick={() => setWhat('codes')}>
                New recovery codes
              </button>
              <button type="button" className="btn" onClick={() => setWhat('end')}>
                End it
              </button>
            </>
          ) : (
            <button type="button" className="btn" onClick={() => setWhat('begin')}>
              Set it up
            </button>
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
          <p className="q">Scan this with a program for time-based codes, or type the key into it.</p>
          <img
            className="scan"
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
    <form className="stack factor" onSubmit={submit}>
      {children}
      {error && <Failure error={error} />}
      <label>
        {label}
        <input
          type={type === 'password' ? 'password' : 'text'}
          autoComplete={type === 'password' ? 'current-password' : 'one-time-code'}
          autoFocus
          required
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
      <div className="more-acts">
        <button type="submit" className="btn main">
          {button}
        </button>
        <button type="button" className="btn" onClick={leave}>
          Leave it
        </button>
      </div>
    </form>
  );
}
