import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { RequestDetail, RequestItem } from '@tessarion/contract';
import { counted, isOpenRequest } from '@tessarion/core';
import { Fragment, type JSX } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../../keys.js';
import { Button, TextLink } from '../../parts/button.js';
import { Icon } from '../../parts/icon.js';
import { Markdown } from '../../parts/markdown.js';
import { Plate } from '../../parts/plate.js';
import { Crumb } from '../../parts/room.js';
import { Unread } from '../../parts/states.js';
import { useTitle } from '../../parts/use-title.js';
import { useAt } from '../../parts/use-view.js';
import { SentenceText } from '../../parts/words.js';
import { client, useMe, useSite } from '../../session.js';
import { Acts } from './acts.js';
import { Aside } from './aside.js';
import { EditForm } from './edit-form.js';
import { ItemValues } from './item-values.js';
import { ThreadView, threadsAbout, Writing } from './threads.js';
import { useDeeds, useRequest } from './use-request.js';

/** A change on its way: what it would write, what people say of it, and who may let it go. */
export function RequestRoom(): JSX.Element {
  const { id = '' } = useParams();
  const request = useRequest(id);
  if (!request.isSuccess) return <Unread error={request.error} what="Reading the change request" rows={10} />;
  return <Ready request={request.data} />;
}

function Ready({ request }: { readonly request: RequestDetail }): JSX.Element {
  const me = useMe();
  const site = useSite(request.site);
  const deeds = useDeeds(request.id);
  useTitle(request.title);
  const [query, setQuery] = useSearchParams();
  const items = useQuery({
    queryKey: ['forecast', request.forecast, 'request items'],
    queryFn: async () => {
      const all = [];
      for (let cursor: string | null = ''; cursor !== null; ) {
        const page: Awaited<ReturnType<typeof forecastPage>> = await forecastPage(request.forecast, cursor);
        all.push(...page.items);
        cursor = page.next;
      }
      return all;
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
  const cache = useQueryClient();
  const see = useMutation({
    mutationFn: (item: RequestItem) =>
      client.call('itemSeen', {
        params: { id: request.id },
        body: { item: item.id, hash: item.hash, seen: !item.isSeen },
      }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['request', request.id] }),
  });
  const [wanted, open] = useAt('item', (item) => {
    const next = new URLSearchParams(query);
    if (item === undefined) next.delete('item');
    else next.set('item', item);
    setQuery(next, { replace: true });
  });
  const current = request.items.find((item) => item.id === wanted);
  const move = (step: number): void => {
    const at = request.items.findIndex((item) => item.id === wanted);
    const next = request.items[Math.min(request.items.length - 1, Math.max(0, at + step))];
    if (next) open(next.id);
  };
  useKeys([
    { key: 'j', does: 'Next item', act: () => move(1) },
    { key: 'k', does: 'Previous item', act: () => move(-1) },
    { key: 'c', does: 'Comment', act: () => focusOn('textarea[aria-label^="Comment on"]') },
    { key: 'b', does: 'Words of your verdict', act: () => focusOn('textarea[data-verdict]') },
    { key: 'v', does: 'Mark the item as seen', act: () => current !== undefined && see.mutate(current) },
    { key: 'Escape', does: 'Back to the whole request', act: () => open(undefined) },
  ]);
  const find = (path: string) => site.data?.environments.find((one) => one.path === path);
  const mayComment = me.data?.permissions.includes('request.comment') === true;
  const own = me.data?.id ?? '';
  return (
    <>
      <Crumb way={[['Change requests', '/requests']]} here={request.title}>
        <span className="flex-1 max-desk:hidden" />
        <span className="text-ink3 max-desk:hidden">
          {request.id} · revision {request.revision} · by {request.author.name}
        </span>
      </Crumb>
      <main className="grid min-h-0 flex-1 grid-cols-[360px_minmax(0,1fr)_280px] grid-rows-[auto_auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:content-start max-wide:overflow-auto">
        <section
          className="col-[1/3] flex items-stretch gap-0 bg-slab px-16 pt-12 max-wide:col-1 max-wide:row-auto max-wide:overflow-visible max-desk:flex-col max-desk:px-12 max-desk:pt-8"
          aria-label="Direction"
        >
          {request.undoes ? (
            <div className="any relative flex h-54 flex-1 items-center gap-10 bg-kind-tint py-8 pr-34 pl-14 plate-from max-desk:h-52 max-desk:flex-none max-desk:px-12">
              <Icon name="undo" size={16} />
              <span className="flex flex-col leading-18 max-desk:-mt-8">
                <TextLink to={`/transfers/${request.undoes}`}>{request.undoes}</TextLink>
                <span className="text-ink2">is taken back; later changes by others stay</span>
              </span>
            </div>
          ) : (
            <Plate side="from" label="From" path={request.from} one={find(request.from)} />
          )}
          <Plate side="onto" label="Onto" path={request.onto} one={find(request.onto)} />
        </section>
        <section className="col-[1/3] -mt-2 bg-slab px-16 pt-8 pb-12 max-wide:col-1 max-wide:row-auto max-wide:overflow-visible max-desk:px-12">
          <p className="max-w-900 text-sentence text-pretty max-desk:text-[17px]/24">
            <SentenceText pieces={request.sentence} />
          </p>
        </section>
        <div className="col-3 row-[1/4] flex min-h-0 flex-col gap-2 overflow-auto max-wide:col-1 max-wide:row-auto max-wide:contents max-wide:overflow-visible">
          <Acts request={request} deeds={deeds} />
          <Aside request={request} deeds={deeds} />
        </div>
        <nav
          className="row-3 overflow-auto bg-slab max-wide:col-1 max-wide:row-auto max-wide:overflow-visible"
          aria-label="Items"
        >
          <button
            type="button"
            className={`${LINE} justify-between ${current ? '' : 'bg-accent-tint shadow-at'}`}
            aria-current={current ? undefined : 'true'}
            onClick={() => open(undefined)}
          >
            <b>The request</b>
            <span className="text-ink2">{talk(threadsAbout(request, null).length)}</span>
          </button>
          {groupsOf(request).map(({ title, note, items: members }) => (
            <Fragment key={title}>
              <h2 className="mb-0 flex justify-between bg-course px-16 text-small/28">
                {title}
                <span className="text-ink3">{note}</span>
              </h2>
              {members.map((item) => (
                <button
                  key={item.id}
                  type="button"
                  className={`${LINE} ${item === current ? 'bg-accent-tint shadow-at' : ''}`}
                  aria-current={item === current ? 'true' : undefined}
                  onClick={() => open(item.id)}
                >
                  <Mark item={item} />
                  <span className="w-56 flex-none text-small text-ink3">{item.kind}</span>
                  <span className="flex-1 truncate font-semibold" title={item.title}>
                    {item.title}
                  </span>
                  {item.openThreads > 0 && (
                    <span className="text-small whitespace-nowrap text-accent">{talk(item.openThreads)}</span>
                  )}
                  <span className="text-ink2">{item.change}</span>
                </button>
              ))}
            </Fragment>
          ))}
          {request.undoes === null && isOpenRequest(request.state) && (
            <Link
              className="block px-16 py-8 text-ink2 underline underline-offset-2"
              to={`/sites/${request.site}/forecast?from=${request.onto}&onto=${request.from}`}
            >
              What changed on {request.onto.split('/')[1]} since
            </Link>
          )}
        </nav>
        <section
          className="row-3 overflow-auto bg-slab pb-16 max-wide:col-1 max-wide:row-auto max-wide:overflow-visible"
          tabIndex={0}
          aria-label="What it is about"
        >
          {current ? (
            <ItemValues
              key={current.id}
              request={request}
              item={current}
              shown={items.data?.find((one) => one.id === current.id)}
              me={own}
              mayComment={mayComment}
              deeds={deeds}
              see={(item) => see.mutate(item)}
            />
          ) : (
            <div className="max-w-760 px-16 py-12">
              <Description request={request} />
              {threadsAbout(request, null).map((thread) => (
                <ThreadView key={thread.id} thread={thread} me={own} mayComment={mayComment} deeds={deeds} />
              ))}
              {mayComment && <Writing deeds={deeds} about={{}} label="Comment on the request" button="Comment" />}
            </div>
          )}
        </section>
      </main>
    </>
  );
}

/** @returns false where there is no such field */
function focusOn(field: string): boolean {
  const found = document.querySelector<HTMLElement>(`#room ${field}`);
  found?.focus();
  return found !== null;
}

const LINE =
  'flex min-h-row w-full items-center gap-8 border-b border-line px-16 text-left focus-visible:-outline-offset-2 max-desk:min-h-44';

/** What the request says of itself, and a form for who may change that. */
function Description({ request }: { readonly request: RequestDetail }): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const setEdited = (isEdited: boolean): void => setQuery(isEdited ? { edit: 'yes' } : {}, { replace: true });
  const mayEdit = request.acts.some((one) => one.act === 'edit' && one.allowed);
  if (mayEdit && query.has('edit')) return <EditForm request={request} close={() => setEdited(false)} />;
  return (
    <>
      {mayEdit && (
        <Button small className="float-right" onClick={() => setEdited(true)}>
          Edit
        </Button>
      )}
      {request.description !== '' ? (
        <Markdown text={request.description} />
      ) : (
        <p className="text-ink2">Nothing more is said about it.</p>
      )}
    </>
  );
}

interface Group {
  readonly title: string;
  readonly note: string;
  readonly items: readonly RequestItem[];
}

/** Items by what becomes of them: what collides first, and last what the destination changed itself. */
function groupsOf({ items, onto }: RequestDetail): Group[] {
  const of = (outcome: RequestItem['outcome']): RequestItem[] => items.filter((item) => item.outcome === outcome);
  const [colliding, written, kept] = [of('needs-you'), of('written'), of('kept')];
  const there = onto.split('/')[1] ?? onto;
  return [
    { title: `${counted(colliding.length, 'item')} to settle`, note: '', items: colliding },
    { title: counted(written.length, 'item'), note: seenWords(written), items: written },
    { title: `Stays as it is on ${there}`, note: '', items: kept },
  ].filter((group) => group.items.length > 0);
}

const forecastPage = (id: string, cursor: string) =>
  client.call('forecastItems', {
    params: { id },
    query: { limit: 500, ...(cursor === '' ? {} : { cursor }) },
  });

const talk = (count: number): string => (count === 0 ? '' : count === 1 ? '1 thread' : `${count} threads`);

const seenWords = (items: readonly RequestItem[]): string => {
  const seen = items.filter((item) => item.isSeen).length;
  return seen === 0 ? '' : `${seen} seen`;
};

/** A leaf whose corner is sealed once all that is asked for is there; a seal that lapsed is broken. */
function Seal({ state }: { readonly state: 'open' | 'set' | 'lapsed' }): JSX.Element {
  const colour = { open: 'var(--color-rim)', set: 'var(--color-ink2)', lapsed: 'var(--color-accent)' }[state];
  return (
    <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true" className="block">
      <path d="M1.5,1H9L12.5,4.5V13H1.5Z" fill="none" stroke={colour} strokeWidth={1.2} strokeLinejoin="round" />
      {state === 'set' && <path d="M12.5,5.5V13H5Z" fill={colour} />}
      {state === 'lapsed' && <path d="M12.5,5.5V8L10,10.5L7.5,13H5ZM12.5,10.5V13H10Z" fill={colour} />}
    </svg>
  );
}

/** How an item stands: approved, waiting for approval, approved before it changed, or colliding. */
function Mark({ item }: { readonly item: RequestItem }): JSX.Element {
  const isApproved = item.missing + item.missingTeams.length + item.missingGuests === 0;
  const words =
    item.outcome === 'needs-you'
      ? 'collides'
      : item.lapsedFor.length > 0
        ? `changed since ${item.lapsedFor.join(', ')} approved it`
        : isApproved
          ? item.approvedBy.length > 0
            ? `approved by ${item.approvedBy.join(', ')}`
            : 'needs nobody'
          : item.missing + item.missingTeams.length === 0
            ? 'waits for a guest’s yes'
            : 'waits for approval';
  return (
    <span className="flex-none" title={words}>
      <Seal state={isApproved ? 'set' : item.lapsedFor.length > 0 ? 'lapsed' : 'open'} />
      <span className="sr-only">{words}</span>
    </span>
  );
}
