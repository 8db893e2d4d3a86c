import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import type { Forecast, ForecastItem } from '@tessarion/contract';
import { useEffect, useMemo } from 'react';
import { client } from '../../session.js';

/** All that a forecast lists, read page by page; the former ones until it is counted anew. */
export function useItems(forecast: Forecast | undefined): {
  readonly items: readonly ForecastItem[];
  /** All pages are there. */
  readonly isWhole: boolean;
} {
  const pages = useInfiniteQuery({
    queryKey: ['forecast', forecast?.id, 'items', forecast?.fingerprint, forecast?.unsettled, forecast?.wishes],
    enabled: forecast?.state === 'ready',
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      client.call('forecastItems', {
        params: { id: forecast?.id ?? '' },
        query: { limit: 500, ...(pageParam === '' ? {} : { cursor: pageParam }) },
      }),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const items = useMemo(() => pages.data?.pages.flatMap((page) => page.items) ?? [], [pages.data]);
  return { items, isWhole: pages.data !== undefined && !hasNextPage };
}
