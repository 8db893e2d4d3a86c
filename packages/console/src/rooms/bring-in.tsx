import { useMutation, useQuery } from '@tanstack/react-query';
import { type FormEvent, type JSX, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { DatabaseFields, NO_DATABASE } from '../parts/database-fields.js';
import { FindChoice } from '../parts/find-choice.js';
import { Failure } from '../parts/states.js';
import { NameField, TextField } from '../parts/text-field.js';
import { client } from '../session.js';

const ZONES = [...new Set(['UTC', ...Intl.supportedValuesOf('timeZone')])];
const OWN_ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Brings in a running site; nothing of it is changed. */
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
  const adopt = useMutation({
    mutationFn: () => {
      const { database: called, ...login } = database;
      return client.call('siteAdopt', {
        body: {
          name,
          client: owner,
          timeZone,
          server,
          folder,
          roots: [root],
          addresses: [{ name: 'main', url: address.replace(/\/+$/, '') }],
          databases: [{ name: 'main', database: called, ...login }],
          ...(profile === '' ? {} : { profile }),
        },
      });
    },
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!adopt.isPending) adopt.mutate();
  };
  return (
    <>
      <div className="crumb slab">
        <Link to="/">Fleet</Link>
        <i>/</i>
        <h1>Bring in a site</h1>
      </div>
      <form className="bringing" onSubmit={submit}>
        <section className="slab stack" aria-label="The site">
          <h2>What it is</h2>
          <NameField example="threadmill" value={name} change={setName} />
          <label>
            Client, whom it belongs to
            <input
              required
              maxLength={120}
              placeholder="Threadmill & Daughters"
              value={owner}
              onChange={(event) => setOwner(event.target.value)}
            />
          </label>
          <TextField
            label="Address"
            type="url"
            example="https://threadmill.example"
            value={address}
            change={setAddress}
          />
          <label>
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
          </label>
          <FindChoice
            name="Time zone, for windows and freezes"
            value={timeZone}
            choose={setTimeZone}
            options={ZONES.map((one) => ({ value: one, words: one }))}
          />
        </section>
        <section className="slab stack" aria-label="Where it runs">
          <h2>Where it runs</h2>
          {servers.isError && <Failure error={servers.error} />}
          {servers.data?.length === 0 ? (
            <p>
              There is no server yet. <Link to="/servers?at=new">Add the one where it runs</Link>
            </p>
          ) : (
            <label>
              Server
              <select value={server} onChange={(event) => setServer(event.target.value)}>
                {(servers.data ?? []).map((one) => (
                  <option key={one.name}>{one.name}</option>
                ))}
              </select>
            </label>
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
          {adopt.isError && <Failure error={adopt.error} />}
          <p className="q">
            Rows and the contents of files stay as they are. So that a push can switch in one step, the folder{' '}
            <span className="mono">{root}</span> becomes a link to <span className="mono">trees/{root}-…</span>, and
            folders that visitors fill move to <span className="mono">keep/</span>, with links in their place.
          </p>
          <button type="submit" className="btn main big" disabled={adopt.isPending || server === ''}>
            {adopt.isPending ? 'Looking at it' : `Bring ${name === '' ? 'it' : name} in`}
          </button>
        </section>
      </form>
    </>
  );
}
