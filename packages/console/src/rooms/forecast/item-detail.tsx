import type { Environment, Forecast, ForecastCollision, ForecastField, ForecastItem } from '@tessarion/contract';
import { type JSX, type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from 'react';
import { useKeys } from '../../keys.js';
import { Icon } from '../../parts/icon.js';
import { Tile } from '../../parts/tile.js';
import { number } from '../../parts/words.js';
import { Changed, Replaced } from './diff.js';
import { FileView } from './file-view.js';
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
      <header className="dh">
        <div>
          <h2>{item.title}</h2>
          <p className="q">
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
              <b className="acc"> · {onto.name} changed this meanwhile, and its work would be overwritten</b>
            )}
          </p>
        </div>
        <span className="sp" />
        {step}
      </header>
      {whole.map((one) => (
        <WholeCollision key={one.id} collision={one} item={item} sides={sides} wishes={wishes} />
      ))}
      <div className="cmp">
        <div className="ch0">
          <span />
          <span className="hd base">
            <b>{sides.base.name}</b>
            <em>{sides.base.note}</em>
          </span>
          {[from, onto].map((end, i) => (
            <span key={end.name} className={`hd ${end.kind}`}>
              <Tile kind={end.kind} state="in-step" size={22} decorative />
              <span>
                <b>{i === 0 && sides.act === 'undo' ? capital(end.name) : end.name}</b>
                <em>{i === 0 ? from.note : 'as it is now'}</em>
              </span>
            </span>
          ))}
          <span className="hd aft">
            <b>{capital(onto.name)} will hold</b>
            <em>after this {sides.act}</em>
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
    <div className="whole">
      <p>{collision.words}</p>
      <Choice collision={collision} wishes={wishes} sides={sides} words={words} edit={() => undefined} />
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
}: {
  readonly collision: ForecastCollision;
  readonly wishes: Wishes;
  readonly sides: Sides;
  readonly words: { readonly source: string; readonly destination: string };
  readonly edit: (id: string) => void;
}): JSX.Element {
  const taken = takeOf(collision, wishes)?.take;
  const all = [
    ['source', words.source, '1', sides.from.kind],
    ['destination', words.destination, '2', sides.onto.kind],
    ['edited', 'Both, edited', '3', undefined],
  ] as const;
  return (
    <span className="pick">
      {all.map(([take, text, key, kind]) =>
        collision.allowed.includes(take) ? (
          <button
            key={take}
            type="button"
            className={taken === take ? 'on' : ''}
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
              <span className="ic" />
            )}
            {text}
            <kbd>{key}</kbd>
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
      <div className={`f ${collision ? 'hot' : ''}`}>
        <span className="fn">{field.name}</span>
        <span className="v base q" data-side={sides.base.name}>
          {base === null ? (
            <em>{item.change === 'new' ? 'not there' : 'nothing'}</em>
          ) : (
            <Replaced before={base} after={isSourceChange ? source : before} />
          )}
        </span>
        <span className={`v ${isSourceChange ? `c ${sides.from.kind}` : 'same'}`} data-side={sides.from.name}>
          {source === null ? (
            <em>{item.change === 'deleted' ? 'deleted' : 'nothing'}</em>
          ) : isSourceChange ? (
            <Changed before={base} after={source} />
          ) : (
            source
          )}
        </span>
        <span className={`v ${isOwnChange ? `c ${sides.onto.kind}` : 'same'}`} data-side={sides.onto.name}>
          {before === null ? (
            <em>{item.change === 'new' ? 'not there' : 'nothing'}</em>
          ) : isOwnChange ? (
            <Changed before={base} after={before} />
          ) : (
            before
          )}
        </span>
        <span className="v aft" data-side={`${capital(sides.onto.name)} will hold`}>
          {collision ? (
            <Choice collision={collision} wishes={wishes} sides={sides} words={waysOf(sides)} edit={edit} />
          ) : item.outcome === 'left-out' ? (
            (before ?? <em>{item.change === 'new' ? 'not there' : 'nothing'}</em>)
          ) : after === null ? (
            <em>{item.change === 'deleted' ? 'goes' : 'nothing'}</em>
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
    if (event.key === 'Enter' && (event.ctrlKey || event.metaKey)) keep(text);
  };
  return (
    <div className="f ed">
      <span className="fn" />
      <div className="edit">
        <textarea
          ref={area}
          className="ta"
          aria-label="Edited value"
          rows={Math.min(6, Math.max(2, Math.ceil(text.length / 70)))}
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={press}
        />
        <span className="eb">
          <button type="button" className="btn main" onClick={() => keep(text)}>
            Keep this text
          </button>
          <span className="qq">Ctrl Enter</span>
        </span>
      </div>
    </div>
  );
}

function FileRow({ item, sides }: { readonly item: ForecastItem; readonly sides: Sides }): JSX.Element {
  const [collision] = item.collisions;
  const there = item.change === 'new' ? <em>not there</em> : 'the file';
  const held =
    item.outcome === 'written' ? (
      item.change === 'deleted' ? (
        <em>goes</em>
      ) : sides.act === 'undo' ? (
        'the former file'
      ) : (
        `${own(sides.from.name)} file`
      )
    ) : (
      `${own(sides.onto.name)} file`
    );
  return (
    <div className="f">
      <span className="fn">File</span>
      <span className="v base q" data-side={sides.base.name}>
        {there}
      </span>
      <span className={`v c ${sides.from.kind}`}>
        {item.change === 'deleted' ? <em>deleted</em> : <ins>{item.change === 'new' ? 'a new file' : 'changed'}</ins>}
      </span>
      <span className={`v ${collision ? `c ${sides.onto.kind}` : 'same'}`}>
        {collision ? <ins>changed too</ins> : there}
      </span>
      <span className="v aft" data-side={`${capital(sides.onto.name)} will hold`}>
        {item.outcome === 'needs-you' ? <em>not settled</em> : held}
      </span>
    </div>
  );
}
