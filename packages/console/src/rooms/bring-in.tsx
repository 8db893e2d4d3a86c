import { useMutation, useQuery } from '@tanstack/react-query';
import type { ResponseOf } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { Button } from '../parts/button.js';
import { DatabaseFields, NO_DATABASE } from '../parts/database-fields.js';
import { Field, Tick } from '../parts/field.js';
import { FindChoice } from '../parts/find-choice.js';
import { Icon } from '../parts/icon.js';
import { Crumb } from '../parts/room.js';
import { Failure } from '../parts/states.js';
import { NameField, TextField } from '../parts/text-field.js';
import { client } from '../session.js';

const ZONES = [...new Set(['UTC', ...Intl.supportedValuesOf('timeZone')])];
const OWN_ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Brings in a running site; what would be moved of it can be read first. */
export function BringInRoom(): JSX.Element {
  const navigate = useNavigate();
  const servers = useQuery({ queryKey: ['servers'], queryFn: () => client.call('serverList') });
  const profiles = useQuery({ queryKey: ['profiles'], queryFn: () => client.call('profileList') });
  const [name, setName] = useState('');
  const [owner, setOwner] = useState('');
  const [address, setAddress] = useState('');
  const [chosen, setServer] = useState('');
  const [folder, setFolder] = useState('');
  const [root, setRoot] = useState('main');
  const [profile, setProfile] = useState('');
  const [timeZone, setTimeZone] = useState(ZONES.includes(OWN_ZONE) ? OWN_ZONE : 'UTC');
  const [database, setDatabase] = useState(NO_DATABASE);
  const server = chosen === '' ? (servers.data?.[0]?.name ?? '') : chosen;
  const [asItLies, setAsItLies] = useState(false);
  const { database: called, ...login } = database;
  const body = {
    name,
    client: owner,
    timeZone,
    server,
    folder,
    roots: [root],
    addresses: [{ name: 'main', url: address.replace(/\/+$/, '') }],
    databases: [{ name: 'main', database: called, ...login }],
    ...(profile === '' ? {} : { profile }),
    ...(asItLies ? { asItLies } : {}),
  };
  const trial = useMutation({ mutationFn: () => client.call('siteTry', { body }) });
  const adopt = useMutation({
    mutationFn: () => client.call('siteAdopt', { body }),
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  const isBusy = trial.isPending || adopt.isPending;
  const submit = (event: FormEvent<HTMLFormElement>): void => {
    event.preventDefault();
    if (isBusy) return;
    const { submitter } = event.nativeEvent as SubmitEvent;
    if (submitter?.getAttribute('name') === 'try') trial.mutate();
    else adopt.mutate();
  };
  return (
    <>
      <Crumb way={[['Fleet', '/']]} here={'Bring in a site'} />
      <form
        className="grid min-h-0 flex-1 grid-cols-2 gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:overflow-auto"
        onSubmit={submit}
      >
        <section className="flex flex-col gap-12 overflow-auto bg-slab p-16" aria-label="The site">
          <h2 className="text-title">What it is</h2>
          <NameField example="threadmill" value={name} change={setName} />
          <Field>
            Client, whom it belongs to
            <input
              required
              maxLength={120}
              placeholder="Threadmill & Daughters"
              value={owner}
              onChange={(event) => setOwner(event.target.value)}
            />
          </Field>
          <TextField
            label="Address"
            type="url"
            example="https://threadmill.example"
            value={address}
            change={setAddress}
          />
          <Field>
            Profile, which says what it is made of
            <select value={profile} onChange={(event) => setProfile(event.target.value)}>
              <option value="">none yet: it can be kept, not copied</option>
              {(profiles.data ?? [])
                .filter((one) => one.kind === 'profile')
                .map((one) => (
                  <option key={one.name} value={one.name}>
                    {one.name}: {one.title}
                  </option>
                ))}
            </select>
          </Field>
          <FindChoice
            name="Time zone, for windows and freezes"
            value={timeZone}
            choose={setTimeZone}
            options={ZONES.map((one) => ({ value: one, words: one }))}
          />
        </section>
        <section className="flex flex-col gap-12 overflow-auto bg-slab p-16" aria-label="Where it runs">
          <h2 className="text-title">Where it runs</h2>
          {servers.isError && <Failure error={servers.error} />}
          {servers.data?.length === 0 ? (
            <p>
              There is no server yet. <Link to="/servers?at=new">Add the one where it runs</Link>
            </p>
          ) : (
            <Field>
              Server
              <select value={server} onChange={(event) => setServer(event.target.value)}>
                {(servers.data ?? []).map((one) => (
                  <option key={one.name}>{one.name}</option>
                ))}
              </select>
            </Field>
          )}
          <TextField
            label="Folder that holds its root"
            pattern="/.*"
            example="/srv/threadmill"
            value={folder}
            change={setFolder}
          />
          <TextField
            label="Root in it, as the web server serves it"
            pattern="[A-Za-z0-9_][A-Za-z0-9._-]*"
            example="public_html"
            value={root}
            change={setRoot}
          />
          <DatabaseFields
            legend="Database"
            note="As the site itself logs in; the password is kept encrypted."
            value={database}
            change={setDatabase}
          />
          <Tick className="text-small text-ink2">
            <input type="checkbox" checked={asItLies} onChange={(event) => setAsItLies(event.target.checked)} />
            <span>Leave its folders as they lie</span>
          </Tick>
          <p className="text-ink2">
            {asItLies ? (
              'Nothing is moved. Files of a push change one by one where they lie, and not in one step.'
            ) : (
              <>
                Rows and the contents of files stay as they are. So that a push can switch in one step, the folder{' '}
                <span className="mono">{root}</span> becomes a link to <span className="mono">trees/{root}-…</span>, and
                folders that visitors fill move to <span className="mono">keep/</span>, with links in their place.
              </>
            )}
          </p>
          {trial.isError && <Failure error={trial.error} />}
          {trial.data && <Trial {...trial.data} />}
          {adopt.isError && <Failure error={adopt.error} />}
          <div className="flex flex-wrap gap-8">
            <Button type="submit" main wide disabled={isBusy || server === ''}>
              {adopt.isPending ? 'Bringing it in' : `Bring ${name === '' ? 'it' : name} in`}
            </Button>
            <Button type="submit" name="try" wide disabled={isBusy || server === ''}>
              {trial.isPending ? 'Looking at it' : 'Only look at it'}
            </Button>
          </div>
        </section>
      </form>
    </>
  );
}

const ACTS = { rename: 'moves to', folder: 'is made', link: 'becomes a link to' } as const;

/** What was found, and what would be moved, in this order; nothing of it is done. */
function Trial({ checks, moves }: ResponseOf<'siteTry'>): JSX.Element {
  return (
    <section className="grid gap-8 bg-bed p-12" aria-label="What was found" role="status">
      <ul className="grid gap-4">
        {checks.map((check) => (
          <li className="flex items-start gap-8" key={check.name + check.message}>
            <Icon name={check.state === 'passed' ? 'check' : 'warn'} />
            <span>
              {check.message} {check.remedy !== undefined && <span className="text-ink3">{check.remedy}</span>}
            </span>
          </li>
        ))}
      </ul>
      {moves.length > 0 && (
        <ol className="grid gap-4 text-base wrap-anywhere" aria-label="What would be moved">
          {moves.map(({ act, path, to }) => (
            <li key={`${act} ${path}`}>
              <span className="mono">{path}</span> {ACTS[act]} {to !== null && <span className="mono">{to}</span>}
            </li>
          ))}
        </ol>
      )}
      <p className="text-ink2">Nothing was done.</p>
    </section>
  );
}
