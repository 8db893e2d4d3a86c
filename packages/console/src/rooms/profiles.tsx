import { useQuery } from '@tanstack/react-query';
import type { JSX } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { Button, ButtonLink } from '../parts/button.js';
import { Icon } from '../parts/icon.js';
import { clock } from '../parts/moments.js';
import { Room } from '../parts/room.js';
import { Empty, Failure, Loading, Unread } from '../parts/states.js';
import { Views } from '../parts/views.js';
import { client, useMe } from '../session.js';
import { ProfileEditor } from './profile-editor.js';
import { ProfileTables } from './profile-tables.js';

/** What kinds of site are made of. */
export function ProfilesRoom(): JSX.Element {
  const { name } = useParams();
  const profiles = useQuery({ queryKey: ['profiles'], queryFn: () => client.call('profileList') });
  const chosen = name ?? profiles.data?.[0]?.name;
  const [query, setQuery] = useSearchParams();
  const isComposed = query.get('view') === 'composed';
  const isTables = query.get('as') === 'tables';
  const set = (part: string, value: string | undefined): void => {
    const next = new URLSearchParams(query);
    if (value === undefined) next.delete(part);
    else next.set(part, value);
    setQuery(next, { replace: true });
  };
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
      <Room>
        <Empty
          title="No profiles yet"
          act={
            mayWrite && (
              <ButtonLink main to="/profiles?write=new">
                Write one
              </ButtonLink>
            )
          }
        >
          A profile says what a kind of site is made of: what is yours, what visitors made, what is personal. Without
          one a site can be kept, not copied.
        </Empty>
      </Room>
    );
  }
  return (
    <main className="grid min-h-0 flex-1 grid-cols-[320px_minmax(0,1fr)] gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:overflow-auto">
      <section className="flex min-h-0 flex-col bg-slab" aria-label="Profiles">
        <div className="flex items-center gap-8 px-16 py-8 max-desk:flex-wrap max-desk:px-12">
          <h1 className="text-title">Profiles</h1>
          <span className="flex-1 max-desk:hidden" />
          {mayWrite && (
            <ButtonLink to="/profiles?write=new">
              <Icon name="plus" />
              New
            </ButtonLink>
          )}
        </div>
        {profiles.data.map((one) => (
          <Link
            key={one.name}
            className={`grid border-b border-line px-16 py-8 ${one.name === chosen && isWriting !== 'new' ? 'bg-accent-tint shadow-at' : ''}`}
            to={`/profiles/${one.name}`}
          >
            <b>{one.name}</b>
            <span className="line-clamp-2 text-ink2" title={one.title}>
              {one.title}
            </span>
            <span className="text-ink3">
              {one.kind === 'part' ? 'part, ' : ''}version {one.version} · {one.sites.length}{' '}
              {one.sites.length === 1 ? 'site' : 'sites'}
            </span>
          </Link>
        ))}
      </section>
      <section className="overflow-auto bg-slab" aria-label="Document" tabIndex={0}>
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
            <header className="border-b border-line px-16 py-8">
              <h2 className="text-title">{shown.data.title}</h2>
              <p className="text-ink3">
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
              <div className="mt-6 flex flex-wrap items-center gap-8">
                <Views
                  name="Shown as"
                  views={[
                    { view: 'lines', words: 'Lines' },
                    { view: 'tables', words: 'Tables' },
                  ]}
                  at={isTables ? 'tables' : 'lines'}
                  choose={(wanted) => set('as', wanted === 'tables' ? 'tables' : undefined)}
                />
                {shown.data.base !== null && (
                  <Button aria-pressed={isComposed} onClick={() => set('view', isComposed ? undefined : 'composed')}>
                    {isComposed ? 'Its own lines only' : 'As it is composed'}
                  </Button>
                )}
                {mayWrite && <Button onClick={() => setQuery({ write: 'version' })}>Write a new version</Button>}
              </div>
              {composed.isError && <Failure error={composed.error} />}
            </header>
            {isTables ? (
              <ProfileTables text={text} />
            ) : (
              <pre className="py-12 mono leading-20">
                {text.split('\n').map((line, i) => (
                  <Line key={`${String(i)} ${line}`} text={line} number={i + 1} />
                ))}
              </pre>
            )}
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
    <span className={`block whitespace-pre pr-16 ${isNote ? 'text-ink3' : 'text-ink2'}`}>
      <i className="inline-block w-48 pr-16 text-right text-ink3 select-none" aria-hidden="true">
        {number}
      </i>
      {isNote
        ? text
        : parts.map((part, i) =>
            CLASSES.test(part) ? (
              <b className="text-ink" key={`${String(i)} ${part}`}>
                {part}
              </b>
            ) : (
              <span key={`${String(i)} ${part}`}>{part}</span>
            ),
          )}
      {'\n'}
    </span>
  );
}
