import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { SavedView } from '@tessarion/contract';
import { type JSX, lazy, Suspense, useState } from 'react';
import { useSearchParams } from 'react-router';
import { client } from '../session.js';
import { TextButton } from './button.js';

// What nobody keeps yet is not read.
const KeepView = lazy(async () => ({ default: (await import('./keep-view.js')).KeepView }));

/** What of an address is not the view, but what one is at in it. */
const PLACES = ['at', 'item', 'id'];

/** An address's view, in one order, whatever came first. */
function viewOf(query: URLSearchParams): string {
  const kept = new URLSearchParams([...query].filter(([name, value]) => !PLACES.includes(name) && value !== ''));
  kept.sort();
  return kept.toString();
}

/** The views of a room that one keeps, and a way to keep the one that is shown. */
export function SavedViews({
  room,
  find,
  take,
}: {
  readonly room: SavedView['room'];
  /** What is typed into the room's filter, where the address follows that late. */
  readonly find?: string;
  /** Told when a view is shown. */
  readonly take?: (view: URLSearchParams) => void;
}): JSX.Element {
  const cache = useQueryClient();
  const [query, setQuery] = useSearchParams();
  const [isNaming, setNaming] = useState(false);
  const now = new URLSearchParams(query);
  if (find !== undefined) now.set('find', find);
  const shown = viewOf(now);
  const views = useQuery({ queryKey: ['views'], queryFn: () => client.call('viewList'), staleTime: 300_000 });
  const again = { onSettled: () => cache.invalidateQueries({ queryKey: ['views'] }) };
  const forget = useMutation({ mutationFn: (id: string) => client.call('viewRemove', { params: { id } }), ...again });
  const own = (views.data ?? []).filter((one) => one.room === room);
  const current = own.find((one) => one.query === shown);
  return (
    <>
      {own.length > 0 && (
        <nav className="flex gap-2 overflow-auto" aria-label="Views that you keep">
          {own.map((one) => (
            <button
              key={one.id}
              type="button"
              aria-pressed={one === current}
              className="h-28 max-w-160 truncate rounded-sm px-8 text-ink2 hover:text-ink aria-pressed:bg-bed aria-pressed:font-semibold aria-pressed:text-ink touch:min-h-44"
              title={one.name}
              onClick={() => {
                const wanted = new URLSearchParams(one.query);
                take?.(wanted);
                setQuery(wanted);
              }}
            >
              {one.name}
            </button>
          ))}
        </nav>
      )}
      {current ? (
        <TextButton className="self-center!" onClick={() => forget.mutate(current.id)}>
          Forget this view
        </TextButton>
      ) : (
        shown !== '' && (
          <TextButton className="self-center!" onClick={() => setNaming(true)}>
            Keep this view
          </TextButton>
        )
      )}
      {isNaming && (
        <Suspense fallback={null}>
          <KeepView room={room} query={shown} close={() => setNaming(false)} />
        </Suspense>
      )}
    </>
  );
}
