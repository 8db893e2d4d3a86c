import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import { useQuery } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import type { Me } from '@tessarion/contract';
import { type JSX, lazy, Suspense, useEffect, useRef, useState } from 'react';
import { Navigate, NavLink, Outlet, useLocation, useNavigate } from 'react-router';
import { useKeys } from '../keys.js';
import { client, queries, useLiveData, useWaiting } from '../session.js';
import { Button, buttonLook } from './button.js';
import { Icon } from './icon.js';
import { Notices } from './notices.js';
import { OutageStrip } from './outage.js';
import { POP, POP_ITEM } from './pop.js';
import { Room } from './room.js';
import { Failure, Loading } from './states.js';
import { Mark } from './tile.js';
import { number } from './words.js';

// What nobody has opened yet is read once all else is there.
const finder = () => import('./finder.js');
const keyList = () => import('./key-list.js');
const Finder = lazy(async () => ({ default: (await finder()).Finder }));
const KeyList = lazy(async () => ({ default: (await keyList()).KeyList }));
const AHEAD_MS = 2000;

const ROOMS = [
  { to: '/', name: 'Fleet', key: 'f' },
  { to: '/requests', name: 'Requests', key: 'r' },
  { to: '/transfers', name: 'Transfers', key: 't' },
  { to: '/snapshots', name: 'Snapshots', key: 's' },
  { to: '/windows', name: 'Windows', key: 'w' },
  { to: '/profiles', name: 'Profiles', key: 'p' },
  { to: '/people', name: 'People', key: 'e' },
  { to: '/journal', name: 'Journal', key: 'j', needs: 'journal.read' },
] as const satisfies readonly RoomLink[];

interface RoomLink {
  readonly to: string;
  readonly name: string;
  readonly key: string;
  /** Without this permission there is nothing to see. */
  readonly needs?: Me['permissions'][number];
}

const isStranger = (error: unknown): boolean =>
  error instanceof ServiceProblem && error.problem.type === 'tessarion:not-signed-in';

const SITE_ACTS: Readonly<Record<string, string>> = {
  new: 'New copy of ',
  forecast: 'Forecast of ',
  compare: 'Copies of ',
  timeline: 'Timeline of ',
};

/** What a browser's tab and history call a room. */
function titleOf(pathname: string): string {
  const [, room, name, act] = pathname.split('/').map(decodeURIComponent);
  if (room === 'sites' && name) return `${SITE_ACTS[act ?? ''] ?? ''}${name}`;
  if (room === 'transfers' && name) return `Transfer ${name}`;
  if (room === 'requests' && name) return `Change request ${name}`;
  if (room === 'profiles' && name) return `Profile ${name}`;
  return roomOf(pathname);
}

/** Rooms that stand in no bar. */
const OTHERS: Readonly<Record<string, string>> = {
  settings: 'Settings',
  notices: 'Notices',
  figures: 'Figures',
  webhooks: 'Webhooks',
  servers: 'Servers',
  'bring-in': 'Bring in a site',
};

const roomOf = (pathname: string): string => {
  const room = pathname.split('/')[1] ?? '';
  return OTHERS[room] ?? ROOMS.find((one) => one.to === `/${room}`)?.name ?? 'Nowhere';
};

/** Bar, finder and the room below; sends strangers to the sign-in. */
export function Frame(): JSX.Element {
  const me = useQuery<Me>({ queryKey: ['me'], queryFn: () => client.call('me'), retry: false, staleTime: 300_000 });
  const location = useLocation();
  if (me.isPending) return <Loading what="Signing in" rows={3} />;
  if (me.isError && isStranger(me.error))
    return <Navigate to={`/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`} replace />;
  // Who was here stays here: what is on the screen holds until the service answers again.
  if (me.data) return <SignedIn me={me.data} />;
  return (
    <Room>
      <h1 className="sr-only">Not connected</h1>
      <Failure error={me.error} />
      <Button onClick={() => void me.refetch()}>Try again</Button>
    </Room>
  );
}

function SignedIn({ me }: { readonly me: Me }): JSX.Element {
  const rooms = ROOMS.filter((room) => !('needs' in room) || me.permissions.includes(room.needs));
  const navigate = useNavigate();
  const [isFinding, setFinding] = useState(false);
  const [isListing, setListing] = useState(false);
  const { outage, again } = useLiveData();
  const waiting = useWaiting().data?.length ?? 0;
  useKeys([
    { key: 'Ctrl k', does: 'Find anything, or do it', isEverywhere: true, act: () => setFinding(true) },
    { key: '?', does: 'These keys', isEverywhere: true, act: () => setListing(true) },
    { key: 'Ctrl Enter', does: 'What the room is for, or what is asked before it', isEverywhere: true, act: doMain },
    ...rooms.map((room) => ({
      key: `g ${room.key}`,
      does: room.name,
      isEverywhere: true,
      act: () => void navigate(room.to === '/requests' && waiting > 0 ? '/requests?view=waiting' : room.to),
    })),
  ]);
  const signOut = async (): Promise<void> => {
    await client.call('signOut');
    queries.clear();
    // What one person was writing is not for the next one.
    sessionStorage.clear();
    await navigate('/sign-in');
  };
  const { pathname } = useLocation();
  const room = useRef<HTMLDivElement>(null);
  const from = useRef(pathname);
  useEffect(() => {
    const timer = setTimeout(() => void Promise.allSettled([finder(), keyList()]), AHEAD_MS);
    return () => clearTimeout(timer);
  }, []);
  useEffect(() => {
    document.title = `${titleOf(pathname)} · Tessarion`;
    const hasMoved = from.current !== pathname;
    from.current = pathname;
    // What had the focus went with its room: who goes on by keys goes on in this one.
    if (hasMoved && document.activeElement === document.body) room.current?.focus({ preventScroll: true });
  }, [pathname]);
  // A site is a part of the fleet; every other room goes by its own name.
  const here = pathname === '/' || pathname.startsWith('/sites/') ? 'Fleet' : roomOf(pathname);
  return (
    <>
      <button
        type="button"
        className="fixed top-2 left-2 z-50 bg-slab px-16 py-12 shadow-pop not-focus:sr-only"
        onClick={() => room.current?.focus()}
      >
        To the room
      </button>
      <header className="flex h-44 flex-none bg-slab">
        <NavLink
          className="flex items-center gap-10 pr-16 pl-12 text-[15px] font-strong tracking-[-0.005em] font-stretch-112% max-desk:pr-12"
          to="/"
          aria-label="Tessarion, fleet"
        >
          <Mark />
          <span className="max-desk:hidden">Tessarion</span>
        </NavLink>
        <nav className="flex min-w-0 flex-1 max-desk:hidden" aria-label="Rooms">
          {rooms.map((room) => (
            <NavLink
              key={room.to}
              to={room.to}
              end={room.to === '/'}
              className={({ isActive, isPending }) =>
                `flex items-center gap-6 px-11 ${
                  isPending
                    ? 'laid-course animate-working text-ink2 motion-reduce:animate-none'
                    : isActive || (room.to === '/' && pathname.startsWith('/sites'))
                      ? 'laid-course font-semibold text-ink after:right-auto after:left-11 after:w-[calc(round(down,100%-22px,6px)-1px)]'
                      : 'text-ink2 hover:text-ink'
                }`
              }
            >
              {room.name}
              {room.to === '/requests' && waiting > 0 && (
                <b className="min-w-16 rounded-sm bg-accent px-4 text-center text-micro text-on-accent">
                  {number(waiting)}
                  <span className="sr-only"> wait for you</span>
                </b>
              )}
            </NavLink>
          ))}
        </nav>
        <Menu as="div" className="flex flex-1 items-center desk:hidden">
          <MenuButton className={`${buttonLook({ bare: true })} font-semibold`}>
            {here} <Icon name="down" />
          </MenuButton>
          <MenuItems className={POP} anchor="bottom start">
            {rooms.map((room) => (
              <MenuItem key={room.to}>
                <NavLink className={POP_ITEM} to={room.to}>
                  {room.name}
                </NavLink>
              </MenuItem>
            ))}
          </MenuItems>
        </Menu>
        <button
          type="button"
          className="m-8 flex h-28 w-208 items-center gap-8 rounded-sm bg-bed px-8 text-ink3 hover:text-ink max-desk:m-0 max-desk:h-44 max-desk:w-44 max-desk:justify-center max-desk:bg-transparent"
          onClick={() => setFinding(true)}
          aria-label="Find or do"
        >
          <Icon name="find" />
          <span className="max-desk:hidden">Find or do</span>
          <kbd className="ml-auto bg-transparent max-desk:hidden">Ctrl K</kbd>
        </button>
        <Notices />
        <Menu as="div" className="pr-12 pl-6">
          <MenuButton className="grid h-44 w-36 place-items-center" aria-label={`${me.name}, account`}>
            <b className="grid size-24 place-items-center rounded-sm bg-bed text-micro text-ink2">
              {initials(me.name)}
            </b>
          </MenuButton>
          <MenuItems className={POP} anchor="bottom end">
            <p className="grid border-b border-line px-10 py-8">
              <b>{me.name}</b>
              <span className="text-ink3">{me.mail}</span>
            </p>
            <MenuItem>
              <button className={POP_ITEM} type="button" onClick={() => setListing(true)}>
                Keys <kbd>?</kbd>
              </button>
            </MenuItem>
            <MenuItem>
              <NavLink className={POP_ITEM} to="/figures">
                Figures
              </NavLink>
            </MenuItem>
            <MenuItem>
              <NavLink className={POP_ITEM} to="/settings">
                Settings
              </NavLink>
            </MenuItem>
            <MenuItem>
              <a className={POP_ITEM} href="/api/docs">
                HTTP interface
              </a>
            </MenuItem>
            <MenuItem>
              <button className={POP_ITEM} type="button" onClick={() => void signOut()}>
                Sign out
              </button>
            </MenuItem>
          </MenuItems>
        </Menu>
      </header>
      {outage && <OutageStrip outage={outage} again={again} />}
      <p className="sr-only" role="status">
        {titleOf(pathname)}
      </p>
      <div ref={room} id="room" tabIndex={-1} className="flex min-h-0 flex-1 flex-col gap-2 outline-0">
        <Outlet />
      </div>
      <Suspense fallback={null}>
        {isFinding && <Finder isOpen close={() => setFinding(false)} />}
        {isListing && <KeyList isOpen close={() => setListing(false)} />}
      </Suspense>
    </>
  );
}

/** Presses what a room is for, or leads to the field that must be filled before. @returns false where there is none */
function doMain(): boolean {
  const asked = document.querySelector<HTMLInputElement>('#room [data-asked]');
  const main = document.querySelector<HTMLElement>('#room [data-main]:not(:disabled)');
  if (asked && !main) {
    asked.focus();
    asked.scrollIntoView({ block: 'nearest' });
  } else main?.click();
  return asked !== null || main !== null;
}

const initials = (name: string): string =>
  name
    .split(/\s+/)
    .map((part) => part[0]?.toUpperCase() ?? '')
    .slice(0, 2)
    .join('');
