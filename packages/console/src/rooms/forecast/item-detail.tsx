import type { Environment, Forecast, ForecastCollision, ForecastField, ForecastItem } from '@tessarion/contract';
import { type JSX, type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from 'react';
import { useKeys } from '../../keys.js';
import { Button } from '../../parts/button.js';
import { Icon } from '../../parts/icon.js';
import { Tile } from '../../parts/tile.js';
import { number } from '../../parts/words.js';
import { Changed, Replaced } from './diff.js';
import { FileView } from './file-view.js';
import { PICK } from './pick.js';
import type { Take, Wishes } from './wishes.js';

type Kind = Environment['kind'];

/** Both ends as the columns of a comparison call them. */
export interface Sides {
  readonly from: { readonly name: string; readonly kind: Kind; readonly note: string };
  readonly onto: { readonly name: string; readonly kind: Kind };
  readonly base: { readonly name: string; readonly note: string };
  readonly act: 'push' | 'pull' | 'undo';
}

/** The two ways of settling what collides, in words. */
const waysOf = ({ act, from, onto }: Sides): { readonly source: string; readonly destination: string } =>
  act === 'undo'
    ? { source: 'Take it back', destination: 'Leave it' }
    : { source: own(from.name), destination: own(onto.name) };

/** The name with a genitive, as a person writes it. */
const own = (name: string): string => `${capital(name)}’s`;

const capital = (name: string): string => `${name.slice(0, 1).toUpperCase()}${name.slice(1)}`;

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
  const whole = item.collisions.filter((one) => one.field === null);
  const open = item.collisions.find((one) => takeOf(one, wishes) === undefined) ?? item.collisions[0];
  const settle = (take: Take['take']): false | undefined => {
    if (!open?.allowed.includes(take)) return false;
    if (take === 'edited') setEdited(open.id);
    else wishes.settle(open.id, { take });
  };
  useKeys([
    { key: '1', does: `Settle: what ${from.name} has`, act: () => settle('source') },
    { key: '2', does: `Settle: what ${onto.name} has`, act: () => settle('destination') },
    { key: '3', does: 'Settle: both, edited', act: () => settle('edited') },
  ]);
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
            {item.overwrites && (
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
      <div className="border-t border-line">
        <div className="grid grid-cols-[92px_140px_minmax(0,1fr)_minmax(0,1fr)_164px] border-b border-line bg-course max-desk:hidden">
          <span />
          <span className="min-w-0 overflow-hidden px-10 py-6 leading-18 whitespace-nowrap">
            <b className="block">{sides.base.name}</b>
            <em className="block text-small text-ink3">{sides.base.note}</em>
          </span>
          {[from, onto].map((end, i) => (
            <span
              key={end.name}
              className={`flex min-w-0 items-center gap-8 overflow-hidden whitespace-nowrap px-10 py-6 leading-18 shadow-[inset_0_-3px_var(--color-kind)] ${end.kind}`}
            >
              <Tile kind={end.kind} state="in-step" size={22} decorative />
              <span>
                <b className="block">{i === 0 && sides.act === 'undo' ? capital(end.name) : end.name}</b>
                <em className="block text-small text-ink3">{i === 0 ? from.note : 'as it is now'}</em>
              </span>
            </span>
          ))}
          <span className="min-w-0 overflow-hidden bg-bed px-10 py-6 leading-18 font-medium whitespace-nowrap">
            <b className="block">{capital(onto.name)} will hold</b>
            <em className="block text-small text-ink3">after this {sides.act}</em>
          </span>
        </div>
        {item.fields.map((field, i) => (
          <FieldRow
            key={`${field.name} ${i}`}
            field={field}
            item={item}
            sides={sides}
            collision={item.collisions.find((one) => one.id === field.collision)}
            wishes={wishes}
            isEditing={edited !== undefined && edited === field.collision}
            edit={setEdited}
          />
        ))}
        {item.fields.length === 0 && <FileRow item={item} sides={sides} />}
      </div>
      {item.fields.length === 0 && item.id.includes('/') && <FileView item={item} forecast={forecast} sides={sides} />}
    </>
  );
}

/** A field in columns, or its sides beneath each other, each with its name. */
const ROW = 'grid grid-cols-[92px_140px_minmax(0,1fr)_minmax(0,1fr)_164px] border-b border-line max-desk:grid-cols-1';
const NAME =
  'wrap-anywhere py-7 pr-8 pl-16 text-ink2 text-small max-desk:px-12 max-desk:pt-8 max-desk:pb-0 max-desk:font-semibold';
const VALUE =
  'wrap-anywhere whitespace-pre-wrap border-line border-l px-10 py-6 max-desk:border-l-0 max-desk:px-12 max-desk:pt-4 max-desk:before:block max-desk:before:text-ink3 max-desk:before:text-small max-desk:before:content-[attr(data-side)]';

const takeOf = (collision: ForecastCollision, wishes: Wishes): Take | undefined => {
  const wished = wishes.current.settlements[collision.id];
  if (wished) return wished;
  return collision.settled ? { take: collision.settled.take, value: collision.settled.value } : undefined;
};

function WholeCollision({
  collision,
  item,
  sides,
  wishes,
}: {
  readonly collision: ForecastCollision;
  readonly item: ForecastItem;
  readonly sides: Sides;
  readonly wishes: Wishes;
}): JSX.Element {
  const words =
    sides.act === 'undo'
      ? waysOf(sides)
      : item.change === 'deleted'
        ? { source: `Delete it on ${sides.onto.name}`, destination: `Keep it on ${sides.onto.name}` }
        : { source: `Take ${own(sides.from.name)}`, destination: `Leave ${own(sides.onto.name)}` };
  return (
    <div className="flex items-center gap-16 border-t border-line bg-accent-tint px-16 py-8 max-desk:flex-col max-desk:items-stretch max-desk:px-12">
      <p className="flex-1 font-semibold">{collision.words}</p>
      <Choice collision={collision} wishes={wishes} sides={sides} words={words} edit={() => undefined} isWide />
    </div>
  );
}

/** The ways in which one collision may be settled; choosing the chosen one takes it back. */
function Choice({
  collision,
  wishes,
  sides,
  words,
  edit,
  isWide = false,
}: {
  readonly collision: ForecastCollision;
  readonly wishes: Wishes;
  readonly sides: Sides;
  readonly words: { readonly source: string; readonly destination: string };
  readonly edit: (id: string) => void;
  /** Beside each other, where there is room. */
  readonly isWide?: boolean;
}): JSX.Element {
  const taken = takeOf(collision, wishes)?.take;
  const all = [
    ['source', words.source, '1', sides.from.kind],
    ['destination', words.destination, '2', sides.onto.kind],
    ['edited', 'Both, edited', '3', undefined],
  ] as const;
  return (
    <span className={isWide ? 'flex gap-4 max-desk:flex-col' : '-mx-4 flex flex-col gap-2'}>
      {all.map(([take, text, key, kind]) =>
        collision.allowed.includes(take) ? (
          <button
            key={take}
            type="button"
            className={`${PICK} ${taken === take ? 'border-accent font-semibold text-accent' : 'border-line'}`}
            aria-pressed={taken === take}
            onClick={() => {
              if (take === 'edited') edit(collision.id);
              else wishes.settle(collision.id, taken === take ? undefined : { take });
            }}
          >
            {taken === take ? (
              <Icon name="check" />
            ) : kind ? (
              <Tile kind={kind} state="in-step" size={14} decorative />
            ) : (
              <span className="block h-14 w-14 flex-none" />
            )}
            {text}
            <kbd className="ml-auto">{key}</kbd>
          </button>
        ) : null,
      )}
    </span>
  );
}

function FieldRow({
  field,
  item,
  sides,
  collision,
  wishes,
  isEditing,
  edit,
}: {
  readonly field: ForecastField;
  readonly item: ForecastItem;
  readonly sides: Sides;
  readonly collision: ForecastCollision | undefined;
  readonly wishes: Wishes;
  readonly isEditing: boolean;
  readonly edit: (id: string | undefined) => void;
}): JSX.Element {
  const { base, source, before, after } = field;
  const isSourceChange = source !== base;
  const isOwnChange = before !== base;
  const take = collision && takeOf(collision, wishes);
  return (
    <>
      <div className={ROW}>
        <span className={NAME}>{field.name}</span>
        <span className={`${VALUE} text-ink2`} data-side={sides.base.name}>
          {base === null ? (
            <em className="text-small text-ink2">{item.change === 'new' ? 'not there' : 'nothing'}</em>
          ) : (
            <Replaced before={base} after={isSourceChange ? source : before} />
          )}
        </span>
        <span
          className={`${VALUE} ${isSourceChange ? `bg-kind-tint ${sides.from.kind}` : 'text-ink3'}`}
          data-side={sides.from.name}
        >
          {source === null ? (
            <em className="text-small text-ink2">{item.change === 'deleted' ? 'deleted' : 'nothing'}</em>
          ) : isSourceChange ? (
            <Changed before={base} after={source} />
          ) : (
            source
          )}
        </span>
        <span
          className={`${VALUE} ${isOwnChange ? `bg-kind-tint ${sides.onto.kind}` : 'text-ink3'}`}
          data-side={sides.onto.name}
        >
          {before === null ? (
            <em className="text-small text-ink2">{item.change === 'new' ? 'not there' : 'nothing'}</em>
          ) : isOwnChange ? (
            <Changed before={base} after={before} />
          ) : (
            before
          )}
        </span>
        <span className={`${VALUE} bg-bed font-medium`} data-side={`${capital(sides.onto.name)} will hold`}>
          {collision ? (
            <Choice collision={collision} wishes={wishes} sides={sides} words={waysOf(sides)} edit={edit} />
          ) : item.outcome === 'left-out' ? (
            (before ?? <em className="text-ink3">{item.change === 'new' ? 'not there' : 'nothing'}</em>)
          ) : after === null ? (
            <em className="text-small text-ink2">{item.change === 'deleted' ? 'goes' : 'nothing'}</em>
          ) : (
            after
          )}
        </span>
      </div>
      {collision && (isEditing || take?.take === 'edited') && (
        <Edited
          start={take?.take === 'edited' ? (take.value ?? '') : (source ?? before ?? '')}
          isKept={take?.take === 'edited' && !isEditing}
          keep={(value) => {
            wishes.settle(collision.id, { take: 'edited', value });
            edit(undefined);
          }}
        />
      )}
    </>
  );
}

/** A text of one's own that settles a collision. */
function Edited({
  start,
  isKept,
  keep,
}: {
  readonly start: string;
  readonly isKept: boolean;
  readonly keep: (value: string) => void;
}): JSX.Element {
  const [text, setText] = useState(start);
  const area = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    if (!isKept) area.current?.focus();
  }, [isKept]);
  const press = (event: KeyboardEvent): void => {
    if (event.key === 'Enter' && (event.ctrlKey || event.metaKey)) {
      event.preventDefault();
      keep(text);
    }
  };
  return (
    <div className={ROW}>
      <span className={NAME} />
      <div className="col-[2/-1] flex items-center gap-12 border-l border-line bg-bed p-10 max-desk:col-1 max-desk:flex-col max-desk:items-stretch max-desk:border-l-0">
        <textarea
          ref={area}
          className="flex-1 border-accent"
          aria-label="Edited value"
          rows={Math.min(6, Math.max(2, Math.ceil(text.length / 70)))}
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={press}
        />
        <span className="flex flex-col items-center gap-2">
          <Button main onClick={() => keep(text)}>
            Keep this text
          </Button>
          <span className="text-ink3">Ctrl Enter</span>
        </span>
      </div>
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
      <span className={`${VALUE} bg-kind-tint ${sides.from.kind}`}>
        {item.change === 'deleted' ? (
          <em className="text-ink3">deleted</em>
        ) : (
          <ins>{item.change === 'new' ? 'a new file' : 'changed'}</ins>
        )}
      </span>
      <span className={`${VALUE} ${collision ? `bg-kind-tint ${sides.onto.kind}` : 'text-ink3'}`}>
        {collision ? <ins>changed too</ins> : there}
      </span>
      <span className={`${VALUE} bg-bed font-medium`} data-side={`${capital(sides.onto.name)} will hold`}>
        {item.outcome === 'needs-you' ? <em className="text-ink3">not settled</em> : held}
      </span>
    </div>
  );
}
