import { useQuery } from '@tanstack/react-query';
import type { JSX } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { Icon } from '../parts/icon.js';
import { Empty, Failure, Loading, Unread } from '../parts/states.js';
import { clock } from '../parts/words.js';
import { client, useMe } from '../session.js';
import { ProfileEditor } from './profile-editor.js';

/** What kinds of site are made of. */
export function ProfilesRoom(): JSX.Element {
  const { name } = useParams();
  const profiles = useQuery({ queryKey: ['profiles'], queryFn: () => client.call('profileList') });
  const chosen = name ?? profiles.data?.[0]?.name;
  const [query, setQuery] = useSearchParams();
  const isComposed = query.get('view') === 'composed';
  const navigate = useNavigate();
  const me = useMe();
  const mayWrite = me.data?.permissions.includes('site.manage') === true;
  const isWriting = mayWrite ? query.get('write') : null;
  const shown = useQuery({
    queryKey: ['profile', chosen],
    enabled: chosen !== undefined,
    queryFn: () => client.call('profileShow', { params: { name: chosen as string }, query: {} }),
  });
  const composed = useQuery({
    queryKey: ['profile', chosen, 'composed'],
    enabled: chosen !== undefined && isComposed && shown.data?.kind === 'profile',
    queryFn: () => client.call('profileEffective', { params: { name: chosen as string } }),
  });
  const text = (isComposed ? composed.data?.text : undefined) ?? shown.data?.text ?? '';
  if (!profiles.isSuccess) return <Unread error={profiles.error} what="Reading the profiles" />;
  if (profiles.data.length === 0 && isWriting !== 'new') {
    return (
      <main className="room slab">
        <Empty
          title="No profiles yet"
          act={
            mayWrite && (
              <Link className="btn main" to="/profiles?write=new">
                Write one
              </Link>
            )
          }
        >
          A profile says what a kind of site is made of: what is yours, what visitors made, what is personal. Without
          one a site can be kept, not copied.
        </Empty>
      </main>
    );
  }
  return (
    <main className="profiles">
      <section className="slab list" aria-label="Profiles">
        <div className="tools">
          <h1>Profiles</h1>
          <span className="sp" />
          {mayWrite && (
            <Link className="btn" to="/profiles?write=new">
              <Icon name="plus" />
              New
            </Link>
          )}
        </div>
        {profiles.data.map((one) => (
          <Link
            key={one.name}
            className={`prow ${one.name === chosen && isWriting !== 'new' ? 'cur' : ''}`}
            to={`/profiles/${one.name}`}
          >
            <b>{one.name}</b>
            <span className="q cut">{one.title}</span>
            <span className="qq">
              {one.kind === 'part' ? 'part, ' : ''}version {one.version} · {one.sites.length}{' '}
              {one.sites.length === 1 ? 'site' : 'sites'}
            </span>
          </Link>
        ))}
      </section>
      <section className="slab text" aria-label="Document" tabIndex={0}>
        {shown.isError && <Failure error={shown.error} />}
        {shown.isPending && chosen !== undefined && <Loading what="Reading the profile" />}
        {isWriting !== null && (isWriting === 'new' || shown.data) ? (
          <ProfileEditor
            key={isWriting === 'new' ? 'new' : chosen}
            profile={isWriting === 'new' ? undefined : shown.data}
            close={(saved) => void navigate(`/profiles/${saved ?? chosen ?? ''}`, { replace: true })}
          />
        ) : null}
        {isWriting === null && shown.data && (
          <>
            <header>
              <h2>{shown.data.title}</h2>
              <p className="qq">
                version {shown.data.version}, saved {clock(shown.data.createdAt)} by {shown.data.person}
                {shown.data.base !== null && (
                  <>
                    {' '}
                    · stands on <Link to={`/profiles/${shown.data.base}`}>{shown.data.base}</Link>
                  </>
                )}
                {shown.data.parts.map((part) => (
                  <span key={part}>
                    {' '}
                    · with <Link to={`/profiles/${part}`}>{part}</Link>
                  </span>
                ))}
              </p>
              {shown.data.base !== null && (
                <button
                  type="button"
                  className="btn"
                  aria-pressed={isComposed}
                  onClick={() => setQuery(isComposed ? {} : { view: 'composed' }, { replace: true })}
                >
                  {isComposed ? 'Its own lines only' : 'As it is composed'}
                </button>
              )}
              {mayWrite && (
                <button type="button" className="btn" onClick={() => setQuery({ write: 'version' })}>
                  Write a new version
                </button>
              )}
              {composed.isError && <Failure error={composed.error} />}
            </header>
            <pre className="mono">
              {text.split('\n').map((line, i) => (
                <Line key={`${String(i)} ${line}`} text={line} number={i + 1} />
              ))}
            </pre>
          </>
        )}
      </section>
    </main>
  );
}

const CLASSES = /\b(authored|collected|local|derived|unclassified)\b/;

function Line({ text, number }: { readonly text: string; readonly number: number }): JSX.Element {
  const isNote = text.trimStart().startsWith('#');
  const parts = text.split(CLASSES);
  return (
    <span className={isNote ? 'ln qq' : 'ln'}>
      <i aria-hidden="true">{number}</i>
      {isNote
        ? text
        : parts.map((part, i) =>
            CLASSES.test(part) ? (
              <b key={`${String(i)} ${part}`}>{part}</b>
            ) : (
              <span key={`${String(i)} ${part}`}>{part}</span>
            ),
          )}
      {'\n'}
    </span>
  );
}
