import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import { useQuery } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import type { Me } from '@tessarion/contract';
import { type JSX, useEffect, useState } from 'react';
import { Navigate, NavLink, Outlet, useLocation, useNavigate } from 'react-router';
import { useKeys } from '../keys.js';
import { client, queries, useLiveData } from '../session.js';
import { Finder } from './finder.js';
import { Icon } from './icon.js';
import { KeyList } from './key-list.js';
import { Notices } from './notices.js';
import { OutageStrip } from './outage.js';
import { Failure, Loading } from './states.js';
import { Mark } from './tile.js';

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

/** What a browser's tab and history call a room. */
function titleOf(pathname: string): string {
  const [, room, name, act] = pathname.split('/').map(decodeURIComponent);
  if (room === 'sites' && name) return `${{ new: 'New copy of ', forecast: 'Forecast of ' }[act ?? ''] ?? ''}${name}`;
  if (room === 'transfers' && name) return `Transfer ${name}`;
  if (room === 'requests' && name) return `Change request ${name}`;
  if (room === 'profiles' && name) return `Profile ${name}`;
  if (room === 'settings') return 'Settings';
  if (room === 'webhooks') return 'Webhooks';
  if (room === 'servers') return 'Servers';
  if (room === 'bring-in') return 'Bring in a site';
  return ROOMS.find((one) => one.to === `/${room}`)?.name ?? 'Nowhere';
}

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
    <main className="room slab">
      <h1 className="sr-only">Not connected</h1>
      <Failure error={me.error} />
      <button type="button" className="btn" onClick={() => void me.refetch()}>
        Try again
      </button>
    </main>
  );
}

function SignedIn({ me }: { readonly me: Me }): JSX.Element {
  const rooms = ROOMS.filter((room) => !('needs' in room) || me.permissions.includes(room.needs));
  const navigate = useNavigate();
  const [isFinding, setFinding] = useState(false);
  const [isListing, setListing] = useState(false);
  const { outage, again } = useLiveData();
  useKeys([
    { key: 'Ctrl k', does: 'Find anything, or do it', isEverywhere: true, act: () => setFinding(true) },
    { key: '?', does: 'These keys', isEverywhere: true, act: () => setListing(true) },
    ...rooms.map((room) => ({
      key: `g ${room.key}`,
      does: room.name,
      isEverywhere: true,
      act: () => void navigate(room.to),
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
  useEffect(() => {
    document.title = `${titleOf(pathname)} · Tessarion`;
  }, [pathname]);
  const here = ROOMS.find((room) => room.to !== '/' && pathname.startsWith(room.to))?.name ?? 'Fleet';
  return (
    <>
      <header className="bar">
        <NavLink className="brand" to="/" aria-label="Tessarion, fleet">
          <Mark />
          <span>Tessarion</span>
        </NavLink>
        <nav aria-label="Rooms">
          {rooms.map((room) => (
            <NavLink
              key={room.to}
              to={room.to}
              end={room.to === '/'}
              className={({ isActive, isPending }) =>
                isPending
                  ? 'course pulse'
                  : isActive || (room.to === '/' && pathname.startsWith('/sites'))
                    ? 'on course'
                    : ''
              }
            >
              {room.name}
            </NavLink>
          ))}
        </nav>
        <Menu as="div" className="menu">
          <MenuButton className="btn bare">
            {here} <Icon name="down" />
          </MenuButton>
          <MenuItems className="pop" anchor="bottom start">
            {rooms.map((room) => (
              <MenuItem key={room.to}>
                <NavLink to={room.to}>{room.name}</NavLink>
              </MenuItem>
            ))}
          </MenuItems>
        </Menu>
        <button type="button" className="find" onClick={() => setFinding(true)} aria-label="Find or do">
          <Icon name="find" />
          <span>Find or do</span>
          <kbd>Ctrl K</kbd>
        </button>
        <Notices />
        <Menu as="div" className="me">
          <MenuButton aria-label={`${me.name}, account`}>
            <b>{initials(me.name)}</b>
          </MenuButton>
          <MenuItems className="pop" anchor="bottom end">
            <p className="who">
              <b>{me.name}</b>
              <span className="qq">{me.mail}</span>
            </p>
            <MenuItem>
              <button type="button" onClick={() => setListing(true)}>
                Keys <kbd>?</kbd>
              </button>
            </MenuItem>
            <MenuItem>
              <NavLink to="/settings">Settings</NavLink>
            </MenuItem>
            <MenuItem>
              <a href="/api/docs">HTTP interface</a>
            </MenuItem>
            <MenuItem>
              <button type="button" onClick={() => void signOut()}>
                Sign out
              </button>
            </MenuItem>
          </MenuItems>
        </Menu>
      </header>
      {outage && <OutageStrip outage={outage} again={again} />}
      <Outlet />
      <Finder isOpen={isFinding} close={() => setFinding(false)} />
      <KeyList isOpen={isListing} close={() => setListing(false)} />
    </>
  );
}

const initials = (name: string): string =>
  name
    .split(/\s+/)
    .map((part) => part[0]?.toUpperCase() ?? '')
    .slice(0, 2)
    .join('');
