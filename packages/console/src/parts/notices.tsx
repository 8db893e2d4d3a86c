import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Notice } from '@tessarion/contract';
import { type JSX, useEffect, useRef } from 'react';
import { Link, useNavigate } from 'react-router';
import { looks } from '../looks.js';
import { client } from '../session.js';
import { Icon } from './icon.js';
import { POP, POP_ITEM } from './pop.js';
import { type Told, toldOf, toldPath, toldWords } from './told.js';
import { Ago, number } from './words.js';

/** Notes that one has seen what one was told. */
export function useSeeNotices(): { readonly see: (notices: readonly Notice[]) => void; readonly seeAll: () => void } {
  const cache = useQueryClient();
  const done = { onSettled: () => cache.invalidateQueries({ queryKey: ['notices'] }) };
  const see = useMutation({
    mutationFn: (ids: readonly string[]) => Promise.all(ids.map((id) => client.call('noticeSeen', { params: { id } }))),
    ...done,
  });
  const all = useMutation({ mutationFn: () => client.call('noticesSeen'), ...done });
  return {
    see: (notices) => {
      const ids = notices.filter((one) => one.seenAt === null).map((one) => one.id);
      if (ids.length > 0) see.mutate(ids);
    },
    seeAll: () => all.mutate(),
  };
}

const FEW = 40;
const SHOWN = 8;

/** What one was told, in the bar: a count, and the newest on demand, a thing a line. */
export function Notices(): JSX.Element {
  const notices = useQuery({
    queryKey: ['notices'],
    queryFn: () => client.call('noticeList', { query: { limit: FEW } }),
  });
  const { see, seeAll } = useSeeNotices();
  const unseen = notices.data?.unseen ?? 0;
  const items = notices.data?.items ?? [];
  useDesktopNotices(notices.data?.items);
  return (
    <Menu as="div">
      <MenuButton
        className="relative grid h-44 w-36 place-items-center"
        aria-label={unseen === 0 ? 'Notices' : `Notices, ${unseen} new`}
      >
        <Icon name="bell" size={16} />
        {unseen > 0 && (
          <b className="absolute top-6 right-0 min-w-16 bg-accent px-3 text-center text-micro text-on-accent">
            {number(unseen)}
          </b>
        )}
      </MenuButton>
      <MenuItems
        className={`${POP} max-h-480! w-360 max-w-[calc(100vw-16px)] grid-cols-1 overflow-auto`}
        anchor="bottom end"
      >
        {items.length === 0 && <p className="px-12 pb-8 text-ink2">Nobody has told you anything yet.</p>}
        {unseen > 0 && (
          <MenuItem>
            <button className={POP_ITEM} type="button" onClick={seeAll}>
              Mark all as seen
            </button>
          </MenuItem>
        )}
        {toldOf(items)
          .slice(0, SHOWN)
          .map((told) => (
            <MenuItem key={told.about}>
              <Link
                to={toldPath(told.newest)}
                className={`flex flex-col border-t border-line px-12 py-6 data-focus:bg-accent-tint data-focus:text-accent ${told.unseen > 0 ? 'shadow-at' : ''}`}
                onClick={() => see(told.notices)}
              >
                <ToldLine told={told} />
              </Link>
            </MenuItem>
          ))}
        <MenuItem>
          <Link className={`${POP_ITEM} border-t border-line`} to="/notices">
            All notices
          </Link>
        </MenuItem>
      </MenuItems>
    </Menu>
  );
}

/** A thing, what was told of it last, and how much before. */
function ToldLine({ told: { newest, notices } }: { readonly told: Told }): JSX.Element {
  return (
    <>
      <span className="flex w-full justify-between gap-8">
        <b className="min-w-0 truncate">{newest.title}</b>
        <span className="whitespace-nowrap text-ink3">
          <Ago time={newest.at} suffix=" ago" />
        </span>
      </span>
      <span className="flex w-full gap-8 text-ink2">
        <span className="min-w-0 flex-1 truncate">{toldWords(newest)}</span>
        {notices.length > 1 && <span className="text-ink3">and {number(notices.length - 1)} before</span>}
      </span>
    </>
  );
}

/** Tells on the desktop what came since the page was opened of transfers that one began, where that is wished for. */
function useDesktopNotices(items: readonly Notice[] | undefined): void {
  const navigate = useNavigate();
  const newest = useRef<string>(undefined);
  useEffect(() => {
    if (!items) return;
    const since = newest.current;
    newest.current = items[0]?.at ?? since ?? new Date().toISOString();
    if (since === undefined || looks().desktop !== 'yes' || !('Notification' in window)) return;
    for (const one of items.filter(({ at, transfer }) => at > since && transfer !== null)) {
      const told = new Notification(one.title, { body: toldWords(one), tag: one.id });
      told.onclick = () => {
        window.focus();
        void navigate(toldPath(one));
      };
    }
  }, [items, navigate]);
}
