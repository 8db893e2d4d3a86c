import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Notice } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { client } from '../session.js';
import { Icon } from './icon.js';
import { POP, POP_ITEM } from './pop.js';
import { Ago, number } from './words.js';

const WORDS: Record<Notice['kind'], string> = {
  'review-asked': 'asks you for review',
  revised: 'made a new revision',
  lapsed: 'What you approved has changed',
  verdict: 'gave a verdict',
  approved: 'It is approved',
  comment: 'wrote',
  resolved: 'resolved a conversation',
  scheduled: 'set the time of delivery',
  blocked: 'The delivery did not go',
  delivered: 'It is live',
  undone: 'It was taken back',
  withdrawn: 'withdrew it',
  freed: 'What you wait for is free',
  'hand-over': 'asks for something of it',
  idle: 'It lies still',
  guest: 'A guest said of a variant',
  'transfer-done': 'It is done',
  'transfer-failed': 'It did not go',
};

/** What one was told, in the bar: a count, and the list on demand. */
export function Notices(): JSX.Element {
  const cache = useQueryClient();
  const notices = useQuery({
    queryKey: ['notices'],
    queryFn: () => client.call('noticeList', { query: { limit: 20 } }),
  });
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['notices'] }) };
  const see = useMutation({ mutationFn: (id: string) => client.call('noticeSeen', { params: { id } }), ...done });
  const seeAll = useMutation({ mutationFn: () => client.call('noticesSeen'), ...done });
  const unseen = notices.data?.unseen ?? 0;
  const items = notices.data?.items ?? [];
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
        {items.map((one) => (
          <MenuItem key={one.id}>
            <Link
              to={
                one.transfer !== null
                  ? `/transfers/${one.transfer}`
                  : one.request === null
                    ? `/sites/${one.site}`
                    : `/requests/${one.request}${one.item === null ? '' : `?item=${encodeURIComponent(one.item)}`}`
              }
              className={`flex flex-col border-t border-line px-12 py-6 data-focus:bg-accent-tint data-focus:text-accent ${one.seenAt === null ? 'shadow-at' : ''}`}
              onClick={() => one.seenAt === null && see.mutate(one.id)}
            >
              <span className="flex w-full justify-between gap-8">
                <b className="min-w-0">{one.title}</b>
                <span className="whitespace-nowrap text-ink3">
                  <Ago time={one.at} suffix=" ago" />
                </span>
              </span>
              <span className="w-full truncate text-ink2">
                {one.by !== null && /^[a-z]/.test(WORDS[one.kind]) ? `${one.by} ` : ''}
                {WORDS[one.kind]}
                {one.words !== '' && `: ${one.words}`}
              </span>
            </Link>
          </MenuItem>
        ))}
        {unseen > 0 && (
          <MenuItem>
            <button className={POP_ITEM} type="button" onClick={() => seeAll.mutate()}>
              Mark all as seen
            </button>
          </MenuItem>
        )}
      </MenuItems>
    </Menu>
  );
}
