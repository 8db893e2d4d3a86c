import { QueryClient, useQuery, useQueryClient } from '@tanstack/react-query';
import { Client } from '@tessarion/client';
import type {
  AgendaItem,
  ChangeRequest,
  FleetSite,
  Forecast,
  Me,
  Site,
  StreamEvent,
  Transfer,
  TransferDetail,
} from '@tessarion/contract';
import { useEffect, useRef, useState } from 'react';

/** Calls go to the page's own origin, with its cookie. */
export const client = new Client({ url: '' });

/** What was read of the service, and is shown until it is read anew. */
export const queries = new QueryClient({
  defaultOptions: {
    // The service is reached, or says why not: a browser that takes itself for offline may still reach this machine.
    queries: { retry: 1, staleTime: 10_000, refetchOnWindowFocus: true, networkMode: 'always' },
    mutations: { networkMode: 'always' },
  },
});

/** Who is signed in, and what they may do. */
export const useMe = () => useQuery<Me>({ queryKey: ['me'], queryFn: () => client.call('me') });
/** All sites at a glance. What changes comes by itself, one site at a time. */
export const useFleet = () =>
  useQuery<FleetSite[]>({ queryKey: ['fleet'], queryFn: () => client.call('fleetShow'), staleTime: 300_000 });
/** Change requests that wait for who is signed in, the newest first; the first hundred. */
export const useWaiting = () =>
  useQuery<ChangeRequest[]>({
    queryKey: ['requests', 'waiting'],
    queryFn: async () => (await client.call('requestList', { query: { whose: 'waiting', limit: 100 } })).items,
  });
/** Deliveries, windows and freezes between two moments, in milliseconds since 1970. */
export const useAgenda = (from: number, until: number) =>
  useQuery<AgendaItem[]>({
    queryKey: ['plans', 'agenda', from, until],
    queryFn: () =>
      client.call('agendaShow', {
        query: { from: new Date(from).toISOString(), until: new Date(until).toISOString() },
      }),
    staleTime: 60_000,
  });
/** One site with its environments in full. */
export const useSite = (site: string) =>
  useQuery<Site>({ queryKey: ['sites', site], queryFn: () => client.call('siteShow', { params: { site } }) });
/** A transfer in full, read again as long as it is under way. */
export const useTransfer = (id: string) =>
  useQuery<TransferDetail>({
    queryKey: ['transfer', id],
    queryFn: () => client.call('transferShow', { params: { id } }),
    refetchInterval: ({ state }) => state.data?.endedAt === null && UNDER_WAY_MS,
  });
/** A forecast, read again as long as it is computed; nothing without an id. */
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

/** More sites than these are asked for together. */
const FEW = 8;

/** Asks again for the sites that have changed, and puts each in its place among the others. */
async function lookAgain(cache: QueryClient, sites: readonly string[]): Promise<void> {
  const known = cache.getQueryData<FleetSite[]>(['fleet']);
  const isNew = sites.some((name) => known?.every((one) => one.name !== name));
  if (!known || isNew || sites.length > FEW) return cache.invalidateQueries({ queryKey: ['fleet'] });
  for (const name of sites) {
    const found = await client.call('fleetShow', { query: { site: name } }).catch(() => undefined);
    if (found === undefined) continue;
    cache.setQueryData<FleetSite[]>(['fleet'], (all) =>
      all?.flatMap((one) => (one.name === name ? found.slice(0, 1) : [one])),
    );
  }
}

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
    const changed = new Set<string>();
    const refresh = (site: string): void => {
      changed.add(site);
      waiting ??= setTimeout(() => {
        waiting = undefined;
        const sites = [...changed];
        changed.clear();
        void lookAgain(cache, sites);
        for (const name of sites) void cache.invalidateQueries({ queryKey: ['sites', name] });
        for (const queryKey of ['transfers', 'snapshots', 'plans', 'request', 'notices'])
          void cache.invalidateQueries({ queryKey: [queryKey] });
      }, 400);
    };
    const follow = (message: MessageEvent<string>): void => {
      const event = JSON.parse(message.data) as StreamEvent;
      if (event.type === 'forecast') void cache.invalidateQueries({ queryKey: ['forecast', event.forecast] });
      else if (event.type === 'site') refresh(event.site);
      else if (event.type === 'request') {
        void cache.invalidateQueries({ queryKey: ['request', event.request] });
        for (const queryKey of ['requests', 'notices', 'plans']) void cache.invalidateQueries({ queryKey: [queryKey] });
        refresh(event.site);
      } else {
        void cache.invalidateQueries({ queryKey: ['transfer', event.transfer] });
        if (event.state === 'running' && event.progress) {
          const { transfer: id, progress } = event;
          const goOn = <T extends Pick<Transfer, 'id' | 'state' | 'progress'>>(one: T | null): T | null =>
            one?.id === id ? { ...one, state: 'running', progress } : one;
          cache.setQueryData<FleetSite[]>(['fleet'], (sites) =>
            sites?.map((site) =>
              site.name === event.site
                ? { ...site, environments: site.environments.map((e) => ({ ...e, running: goOn(e.running) })) }
                : site,
            ),
          );
          cache.setQueryData<Site>(
            ['sites', event.site],
            (site) =>
              site && { ...site, environments: site.environments.map((e) => ({ ...e, running: goOn(e.running) })) },
          );
        } else refresh(event.site);
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
