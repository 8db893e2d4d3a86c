import { useQuery } from '@tanstack/react-query';
import type { JSX } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { Empty, Failure, Loading } from '../parts/states.js';
import { clock } from '../parts/words.js';
import { client } from '../session.js';

/** What kinds of site are made of; read only. */
export function ProfilesRoom(): JSX.Element {
  const { name } = useParams();
  const profiles = useQuery({ queryKey: ['profiles'], queryFn: () => client.call('profileList') });
  const chosen = name ?? profiles.data?.[0]?.name;
  const [query, setQuery] = useSearchParams();
  const isComposed = query.get('view') === 'composed';
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
  if (profiles.isPending)
    return (
      <main className="room slab">
        <Loading what="Reading the profiles" />
      </main>
    );
  if (profiles.isError)
    return (
      <main className="room slab">
        <Failure error={profiles.error} />
      </main>
    );
  if (profiles.data.length === 0) {
    return (
      <main className="room slab">
        <Empty title="No profiles yet" act={<code className="mono">tessarion profile save FILE</code>}>
          A profile says what a kind of site is made of: what is yours, what visitors made, what is personal. Without
          one a site can be kept, not copied.
        </Empty>
      </main>
    );
  }
  return (
    <main className="profiles">
      <section className="slab list" aria-label="Profiles">
        <h1>Profiles</h1>
        {profiles.data.map((one) => (
          <Link key={one.name} className={`prow ${one.name === chosen ? 'cur' : ''}`} to={`/profiles/${one.name}`}>
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
        {shown.isPending && <Loading what="Reading the profile" />}
        {shown.data && (
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
