import type { Notice } from '@tessarion/contract';
import { addTo } from '@tessarion/core';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Button, TextButton } from '../parts/button.js';
import { Choice } from '../parts/choice.js';
import { dayOf } from '../parts/moments.js';
import { useSeeNotices } from '../parts/notices.js';
import { Older } from '../parts/older.js';
import { RoomHead } from '../parts/room.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { type Told, toldOf, toldPath, toldWords } from '../parts/told.js';
import { usePaged } from '../parts/use-paged.js';
import { useView } from '../parts/use-view.js';
import { Ago, number } from '../parts/words.js';
import { client } from '../session.js';

/** All that one was told, day by day, what is said of one thing put together. */
export function NoticesRoom(): JSX.Element {
  const view = useView();
  const unseen = view.get('which') === 'not seen';
  const { pages, items } = usePaged(['notices', 'room', unseen], (page) =>
    client.call('noticeList', { query: { ...page, ...(unseen ? { unseen: 'yes' as const } : {}) } }),
  );
  const { see, seeAll } = useSeeNotices();
  const days = new Map<string, Notice[]>();
  for (const one of items) addTo(days, dayOf(one.at), one);
  return (
    <main className="flex min-h-0 flex-1 flex-col bg-slab">
      <RoomHead>
        <h1 className="text-title">Notices</h1>
        <span className="flex-1 max-desk:hidden" />
        <Choice
          name="Which"
          value={view.get('which')}
          options={['not seen']}
          choose={(value) => view.set('which', value)}
        />
        <Button disabled={items.every((one) => one.seenAt !== null)} onClick={seeAll}>
          Mark all as seen
        </Button>
      </RoomHead>
      {pages.isPending ? (
        <Loading what="Reading what you were told" rows={10} />
      ) : pages.isLoadingError ? (
        <Failure error={pages.error} />
      ) : items.length === 0 ? (
        <Empty title={unseen ? 'You have seen all' : 'Nobody has told you anything yet'}>
          What waits for you, what came of your changes, and what went wrong is told here.
        </Empty>
      ) : (
        <div className="flex-1 overflow-auto">
          {[...days].map(([day, own]) => (
            <section key={day} aria-label={day}>
              <h2 className="m-0 bg-course px-16 text-small/28 max-desk:px-12">{day}</h2>
              <ul>
                {toldOf(own).map((told) => (
                  <Line key={told.about} told={told} see={() => see(told.notices)} />
                ))}
              </ul>
            </section>
          ))}
          <Older pages={pages} />
        </div>
      )}
    </main>
  );
}

function Line({ told, see }: { readonly told: Told; readonly see: () => void }): JSX.Element {
  const { newest, notices, unseen } = told;
  return (
    <li
      className={`grid grid-cols-[minmax(0,280px)_minmax(0,1fr)_auto] items-baseline gap-x-16 border-b border-line px-16 py-6 max-desk:grid-cols-[minmax(0,1fr)_auto] max-desk:px-12 ${unseen > 0 ? 'shadow-at' : ''}`}
    >
      <Link className="flex min-h-24 flex-col justify-center hover:text-accent" to={toldPath(newest)} onClick={see}>
        <b className="truncate" title={newest.title}>
          {newest.title}
        </b>
        <span className="text-small text-ink3">{newest.onto}</span>
      </Link>
      <ol className="max-desk:col-span-full max-desk:row-2">
        {notices.slice(0, 6).map((one) => (
          <li key={one.id} className={one.seenAt === null ? '' : 'text-ink2'}>
            <span className="wrap-anywhere">{toldWords(one)}</span>{' '}
            <span className="text-small text-ink3">
              <Ago time={one.at} suffix=" ago" />
            </span>
          </li>
        ))}
        {notices.length > 6 && <li className="text-ink3">and {number(notices.length - 6)} before</li>}
      </ol>
      {unseen > 0 ? <TextButton onClick={see}>Mark as seen</TextButton> : <span />}
    </li>
  );
}
