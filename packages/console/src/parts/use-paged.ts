import { keepPreviousData, type UseInfiniteQueryResult, useInfiniteQuery } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { useKeys } from '../keys.js';
import { useAt, type View } from './use-view.js';

interface Page<T> {
  readonly items: T[];
  readonly next: string | null;
}

/** A list that is read page by page, newest first. */
export function usePaged<T>(
  key: readonly unknown[],
  read: (page: { limit: number; cursor?: string }) => Promise<Page<T>>,
): { readonly pages: UseInfiniteQueryResult; readonly items: readonly T[] } {
  const pages = useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) => read({ limit: 100, ...(pageParam === '' ? {} : { cursor: pageParam }) }),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    // What was there stays until what is asked for is: nothing jumps.
    placeholderData: keepPreviousData,
  });
  return { pages, items: pages.data?.pages.flatMap((page) => page.items) ?? [] };
}

/**
 * Lets keys go up and down a list and open what one is at, which the view remembers.
 *
 * @returns what one is at
 */
export function useRowKeys(
  items: readonly { readonly id: string }[],
  view: View,
  pathOf: (id: string) => string,
): string | undefined {
  const navigate = useNavigate();
  const [at, goTo] = useAt('at', (id) => view.set('at', id ?? ''));
  const move = (step: number): void => {
    const next = items[Math.min(items.length - 1, Math.max(0, items.findIndex((one) => one.id === at) + step))];
    if (next) goTo(next.id);
  };
  useKeys([
    { key: 'j', does: 'Next row', act: () => move(1) },
    { key: 'k', does: 'Previous row', act: () => move(-1) },
    { key: 'Enter', does: 'Open the row', act: () => at !== undefined && void navigate(pathOf(at)) },
  ]);
  return at;
}
