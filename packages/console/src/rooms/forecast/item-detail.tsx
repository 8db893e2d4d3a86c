import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import type { Forecast, ForecastItem } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { type JSX, type ReactNode, useState } from 'react';
import { useKeys } from '../../keys.js';
import { Tile } from '../../parts/tile.js';
import { Ago, number } from '../../parts/words.js';
import { FieldRow, NAME, ROW, VALUE } from './field-row.js';
import { FileView } from './file-view.js';
import { capital, own, type Sides, takeOf, WholeCollision } from './settle.js';
import type { Take, Wishes } from './wishes.js';

/** One item: values of baseline, source and destination side by side, and what the destination will hold. */
export function ItemDetail({
  item,
  sides,
  forecast,
  wishes,
  step,
}: {
  readonly item: ForecastItem;
  readonly sides: Sides;
  readonly forecast: Forecast;
  readonly wishes: Wishes;
  /** Goes to the next or the previous item that needs somebody. */
  readonly step: ReactNode;
}): JSX.Element {
  const { from, onto } = sides;
  const [edited, setEdited] = useState<string>();
  const isCompared = sides.act === 'compare';
  const whole = isCompared ? [] : item.collisions.filter((one) => one.field === null);
  const open = item.collisions.find((one) => takeOf(one, wishes) === undefined) ?? item.collisions[0];
  const settle = (take: Take['take']): false | undefined => {
    if (!open?.allowed.includes(take)) return false;
    if (take === 'edited') setEdited(open.id);
    else wishes.settle(open.id, { take });
  };
  useKeys(
    isCompared
      ? []
      : [
          { key: '1', does: `Settle: what ${from.name} has`, act: () => settle('source') },
          { key: '2', does: `Settle: what ${onto.name} has`, act: () => settle('destination') },
          { key: '3', does: 'Settle: both, edited', act: () => settle('edited') },
        ],
  );
  const collisionOf = (name: string | null) => item.collisions.find((one) => one.id === name);
  // What has to be settled is in front of people, whatever it is.
  const isBehind = (field: ForecastItem['fields'][number]): boolean => field.isHidden && field.collision === null;
  const rowOf = (field: ForecastItem['fields'][number], i: number): JSX.Element => (
    <FieldRow
      key={`${field.name} ${i}`}
      field={field}
      item={item}
      forecast={forecast}
      sides={sides}
      collision={collisionOf(field.collision)}
      wishes={wishes}
      isEditing={edited !== undefined && edited === field.collision}
      edit={setEdited}
    />
  );
  const front = item.fields.filter((field) => !isBehind(field));
  const behind = item.fields.filter(isBehind);
  return (
    <>
      <header className="flex items-center gap-6 px-16 py-8">
        <div>
          <h2 className="text-title/22 wrap-anywhere">{item.title}</h2>
          <p className="wrap-anywhere text-ink2">
            {item.kind} <span className="mono">{item.key}</span> · {item.part}
            {item.usedBy.length > 0 && (
              <>
                {' '}
                · used by{' '}
                {item.usedBy.map((one) => `${number(one.count)} ${one.count === 1 ? one.kind : one.plural}`).join(', ')}{' '}
                on {onto.name}
              </>
            )}
            {item.takenAlongFor !== null && <> · comes along with {item.takenAlongFor}</>}
            {item.outcome === 'written' && item.reason !== '' && <> · {item.reason}</>}
            {item.overwrites && !isCompared && (
              <b className="text-accent"> · {onto.name} changed this meanwhile, and its work would be overwritten</b>
            )}
          </p>
        </div>
        <span className="flex-1 max-desk:hidden" />
        {step}
      </header>
      {whole.map((one) => (
        <WholeCollision key={one.id} collision={one} item={item} sides={sides} wishes={wishes} />
      ))}
      <div className="group/values border-t border-line" data-compare={isCompared || undefined}>
        <Heads item={item} sides={sides} />
        {front.map(rowOf)}
        {behind.length > 0 && (
          <Disclosure>
            <DisclosureButton className="flex h-28 w-full items-center gap-6 border-b border-line px-16 text-left text-small text-ink2 focus-visible:-outline-offset-2 touch:min-h-44">
              {counted(behind.length, front.length === 0 ? 'field' : 'more field')}
              <span className="truncate text-ink3">{behind.map((field) => field.label).join(', ')}</span>
            </DisclosureButton>
            <DisclosurePanel>{behind.map((field, i) => rowOf(field, front.length + i))}</DisclosurePanel>
          </Disclosure>
        )}
        {item.fields.length === 0 && <FileRow item={item} sides={sides} />}
      </div>
      {item.fields.length === 0 && item.id.includes('/') && (
        <FileView
          item={item}
          forecast={forecast}
          sides={sides.isTurned ? { from: sides.onto, onto: sides.from } : sides}
          isCompared={isCompared}
        />
      )}
    </>
  );
}

/** What stands over the columns: each side, and who changed it last and when, where its row says so. */
function Heads({ item, sides }: { readonly item: ForecastItem; readonly sides: Sides }): JSX.Element {
  const ends = [
    { end: sides.from, stamp: item.changed.source },
    { end: sides.onto, stamp: item.changed.destination },
  ] as const;
  return (
    <div className={`${ROW} bg-course max-desk:hidden`}>
      <span />
      <span className="min-w-0 overflow-hidden px-10 py-6 leading-18 whitespace-nowrap">
        <b className="block">{sides.base.name}</b>
        <em className="block text-small text-ink3">{sides.base.note}</em>
      </span>
      {ends.map(({ end, stamp }, i) => (
        <span
          key={end.name}
          className={`flex min-w-0 items-center gap-8 overflow-hidden whitespace-nowrap px-10 py-6 leading-18 shadow-[inset_0_-3px_var(--color-kind)] ${end.kind}`}
        >
          <Tile kind={end.kind} state="in-step" size={22} decorative />
          <span className="min-w-0">
            <b className="block truncate">{i === 0 && sides.act === 'undo' ? capital(end.name) : end.name}</b>
            <em className="block truncate text-small text-ink3" data-stamp={i === 0 ? 'source' : 'destination'}>
              {stamp ? (
                <>
                  {stamp.by ?? 'changed'}
                  {stamp.at !== null && (
                    <>
                      {', '}
                      <Ago time={stamp.at} suffix=" ago" />
                    </>
                  )}
                </>
              ) : (
                end.note
              )}
            </em>
          </span>
        </span>
      ))}
      {sides.act !== 'compare' && (
        <span className="min-w-0 overflow-hidden bg-bed px-10 py-6 leading-18 font-medium whitespace-nowrap">
          <b className="block">{capital(sides.onto.name)} will hold</b>
          <em className="block text-small text-ink3">after this {sides.act}</em>
        </span>
      )}
    </div>
  );
}

function FileRow({ item, sides }: { readonly item: ForecastItem; readonly sides: Sides }): JSX.Element {
  const [collision] = item.collisions;
  const there = item.change === 'new' ? <em className="text-ink3">not there</em> : 'the file';
  const held =
    item.outcome === 'written' ? (
      item.change === 'deleted' ? (
        <em className="text-ink3">goes</em>
      ) : sides.act === 'undo' ? (
        'the former file'
      ) : (
        `${own(sides.from.name)} file`
      )
    ) : (
      `${own(sides.onto.name)} file`
    );
  return (
    <div className={ROW}>
      <span className={NAME}>File</span>
      <span className={`${VALUE} text-ink2`} data-side={sides.base.name}>
        {there}
      </span>
      <span className={`${VALUE} bg-kind-tint ${sides.from.kind}`} data-side={sides.from.name}>
        {item.change === 'deleted' ? (
          <em className="text-ink3">deleted</em>
        ) : (
          <ins>{item.change === 'new' ? 'a new file' : 'changed'}</ins>
        )}
      </span>
      <span
        className={`${VALUE} ${collision ? `bg-kind-tint ${sides.onto.kind}` : 'text-ink3'}`}
        data-side={sides.onto.name}
      >
        {collision ? <ins>changed too</ins> : there}
      </span>
      {sides.act !== 'compare' && (
        <span className={`${VALUE} bg-bed font-medium`} data-side={`${capital(sides.onto.name)} will hold`}>
          {item.outcome === 'needs-you' ? <em className="text-ink3">not settled</em> : held}
        </span>
      )}
    </div>
  );
}
