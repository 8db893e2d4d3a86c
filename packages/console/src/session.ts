import { QueryClient, useQuery, useQueryClient } from '@tanstack/react-query';
import { Client } from '@tessarion/client';
import type { Environment, Forecast, Me, Site, StreamEvent, Transfer, TransferDetail } from '@tessarion/contract';
import { useEffect, useRef, useState } from 'react';

/** Calls go to the page's own origin, with its cookie. */
export const client = new Client({ url: '' });

export const queries = new QueryClient({
  defaultOptions: {
    // The service is reached, or says why not: a browser that takes itself for offline may still reach this machine.
    queries: { retry: 1, staleTime: 10_000, refetchOnWindowFocus: true, networkMode: 'always' },
    mutations: { networkMode: 'always' },
  },
});

/** Who is signed in, and what they may do. */
export const useMe = () => useQuery<Me>({ queryKey: ['me'], queryFn: () => client.call('me') });
export const useSites = () => useQuery<Site[]>({ queryKey: ['sites'], queryFn: () => client.call('siteList') });
export const useSite = (site: string) =>
  useQuery<Site>({ queryKey: ['sites', site], queryFn: () => client.call('siteShow', { params: { site } }) });
export const useTransfer = (id: string) =>
  useQuery<TransferDetail>({
    queryKey: ['transfer', id],
    queryFn: () => client.call('transferShow', { params: { id } }),
    refetchInterval: ({ state }) => state.data?.endedAt === null && UNDER_WAY_MS,
  });
export const useForecast = (id: string | undefined) =>
  useQuery<Forecast>({
    queryKey: ['forecast', id],
    enabled: id !== undefined,
    queryFn: () => client.call('forecastShow', { params: { id: id as string } }),
    refetchInterval: ({ state }) => state.data?.state === 'computing' && UNDER_WAY_MS,
  });

/** Asked for again so often while it is under way, should an event be lost. */
const UNDER_WAY_MS = 5000;

/** While what happens is not followed. Times in milliseconds since 1970. */
export interface Outage {
  readonly since: number;
  /** When it is tried again. */
  readonly nextAt: number;
  /** Whether the service answers all the same. */
  readonly isReached: boolean;
}

/** Tried again so long after a connection was lost. */
const AGAIN_MS = 5000;

/** Lets what is on the screen follow the event stream; progress is written in place, the rest is asked for again. */
export function useLiveData(): { readonly outage: Outage | undefined; readonly again: () => void } {
  const cache = useQueryClient();
  const [outage, setOutage] = useState<Outage>();
  const again = useRef<() => void>(() => undefined);
  useEffect(() => {
    let source: EventSource | undefined;
    let timer: ReturnType<typeof setTimeout> | undefined;
    let isLost = false;
    const open = (): void => {
      clearTimeout(timer);
      source?.close();
      source = new EventSource('/api/v1/events');
      source.onopen = () => {
        setOutage(undefined);
        // Whatever happened meanwhile was told to nobody.
        if (isLost) void cache.invalidateQueries();
        isLost = false;
      };
      source.onerror = () => {
        source?.close();
        isLost = true;
        const now = Date.now();
        setOutage((former) => ({
          since: former?.since ?? now,
          nextAt: now + AGAIN_MS,
          isReached: former?.isReached ?? false,
        }));
        // Who is not signed in any more is led to the door by this.
        void cache.invalidateQueries({ queryKey: ['me'] }).then(() => {
          const isReached = cache.getQueryState(['me'])?.status === 'success';
          setOutage((former) => former && { ...former, isReached });
        });
        timer = setTimeout(open, AGAIN_MS);
      };
      source.onmessage = follow;
    };
    again.current = open;
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const refresh = (): void => {
      waiting ??= setTimeout(() => {
        waiting = undefined;
        for (const queryKey of ['sites', 'transfers', 'snapshots', 'plans', 'request'])
          void cache.invalidateQueries({ queryKey: [queryKey] });
      }, 400);
    };
    const follow = (message: MessageEvent<string>): void => {
      const event = JSON.parse(message.data) as StreamEvent;
      if (event.type === 'forecast') void cache.invalidateQueries({ queryKey: ['forecast', event.forecast] });
      else if (event.type === 'site') refresh();
      else if (event.type === 'request') {
        void cache.invalidateQueries({ queryKey: ['request', event.request] });
        for (const queryKey of ['requests', 'notices', 'plans']) void cache.invalidateQueries({ queryKey: [queryKey] });
      } else {
        void cache.invalidateQueries({ queryKey: ['transfer', event.transfer] });
        if (event.state === 'running' && event.progress) {
          const { transfer: id, progress } = event;
          const goOn = (one: Transfer | null): Transfer | null =>
            one?.id === id ? { ...one, state: 'running', progress } : one;
          const update = (site: Site): Site => ({
            ...site,
            environments: site.environments.map((e): Environment => ({ ...e, running: goOn(e.running) })),
          });
          cache.setQueryData<Site[]>(['sites'], (sites) =>
            sites?.map((site) => (site.name === event.site ? update(site) : site)),
          );
          cache.setQueryData<Site>(['sites', event.site], (site) => site && update(site));
        } else refresh();
      }
    };
    open();
    return () => {
      clearTimeout(waiting);
      clearTimeout(timer);
      source?.close();
    };
  }, [cache]);
  return { outage, again: () => again.current() };
}
