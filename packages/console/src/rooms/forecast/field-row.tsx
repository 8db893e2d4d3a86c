import { useQuery } from '@tanstack/react-query';
import type { Forecast, ForecastCollision, ForecastField, ForecastItem } from '@tessarion/contract';
import { bothTexts } from '@tessarion/core';
import { type JSX, type KeyboardEvent, useEffect, useRef, useState } from 'react';
import { Button, TextButton } from '../../parts/button.js';
import { client } from '../../session.js';
import { Changed, Replaced } from './diff.js';
import { readable, readsAlike } from './readable.js';
import { capital, Settle, type Sides, takeOf, waysOf } from './settle.js';
import type { Wishes } from './wishes.js';

/** A field in columns, or its sides beneath each other, each with its name; without the last where nothing moves. */
export const ROW =
  'grid grid-cols-[92px_140px_minmax(0,1fr)_minmax(0,1fr)_164px] group-data-compare/values:grid-cols-[92px_140px_minmax(0,1fr)_minmax(0,1fr)] border-b border-line max-desk:grid-cols-1 group-data-compare/values:max-desk:grid-cols-1';
/** The cell with the field's name. */
export const NAME =
  'wrap-anywhere py-7 pr-8 pl-16 text-ink2 text-small max-desk:px-12 max-desk:pt-8 max-desk:pb-0 max-desk:font-semibold';
/** A cell with the value of one side. */
export const VALUE =
  'wrap-anywhere whitespace-pre-wrap border-line border-l px-10 py-6 max-desk:border-l-0 max-desk:px-12 max-desk:pt-4 max-desk:before:block max-desk:before:text-ink3 max-desk:before:text-small max-desk:before:content-[attr(data-side)]';

/** What stands where a side has no value. */
const Nothing = ({ words }: { readonly words: string }): JSX.Element => (
  <em className="text-small text-ink2">{words}</em>
);

/** One field as all sides have it, and what the destination will hold, or how that is settled. */
export function FieldRow({
  field,
  item,
  forecast,
  sides,
  collision,
  wishes,
  isEditing,
  edit,
}: {
  readonly field: ForecastField;
  readonly item: ForecastItem;
  readonly forecast: Pick<Forecast, 'id' | 'fingerprint' | 'undoes'>;
  readonly sides: Sides;
  readonly collision: ForecastCollision | undefined;
  readonly wishes: Wishes;
  readonly isEditing: boolean;
  readonly edit: (id: string | undefined) => void;
}): JSX.Element {
  const [isWritten, setWritten] = useState(() => readsAlike(field));
  const shown = (value: string | null): string | null => readable(field.show, value, isWritten);
  const [base, source, before] = [shown(field.base), shown(field.source), shown(field.before)];
  // Where both never had it in common, each is held against the other.
  const since = field.base === null && item.change === 'changed';
  const isSourceChange = field.source !== field.base;
  const isOwnChange = field.before !== field.base;
  const take = collision && takeOf(collision, wishes);
  const picture = (side: 'base' | 'source' | 'destination', value: string | null): JSX.Element | null =>
    field.show === 'picture' && value !== null && value !== '' ? (
      <FieldPicture
        forecast={forecast}
        item={item.id}
        field={field.name}
        side={sides.isTurned && side !== 'base' ? (side === 'source' ? 'destination' : 'source') : side}
        named={value}
      />
    ) : null;
  const gone = { new: 'not there', deleted: 'deleted', changed: 'nothing' }[item.change];
  const held = item.outcome === 'left-out' ? field.before : field.after;
  return (
    <>
      <div className={ROW} data-field={field.name}>
        <span className={NAME} title={field.name}>
          {field.label}
          {field.show === 'page' && (
            <TextButton
              className="block"
              aria-pressed={isWritten}
              aria-label={`${field.label} ${isWritten ? 'as text' : 'as it is written'}`}
              onClick={() => setWritten(!isWritten)}
            >
              {isWritten ? 'as text' : 'as written'}
            </TextButton>
          )}
        </span>
        <span className={`${VALUE} text-ink2`} data-side={sides.base.name}>
          {picture('base', field.base)}
          {base === null ? (
            <Nothing words={item.change === 'new' ? 'not there' : 'nothing'} />
          ) : (
            <Replaced before={base} after={isSourceChange ? source : before} />
          )}
        </span>
        <span
          className={`${VALUE} ${isSourceChange ? `bg-kind-tint ${sides.from.kind}` : 'text-ink3'}`}
          data-side={sides.from.name}
        >
          {picture('source', field.source)}
          {source === null ? (
            <Nothing words={item.change === 'new' && sides.act !== 'compare' ? 'nothing' : gone} />
          ) : isSourceChange ? (
            <Changed before={since ? before : base} after={source} />
          ) : (
            source
          )}
        </span>
        <span
          className={`${VALUE} ${isOwnChange ? `bg-kind-tint ${sides.onto.kind}` : 'text-ink3'}`}
          data-side={sides.onto.name}
        >
          {picture('destination', field.before)}
          {before === null ? (
            <Nothing words={item.change === 'deleted' && sides.act !== 'compare' ? 'nothing' : gone} />
          ) : isOwnChange ? (
            <Changed before={since ? source : base} after={before} />
          ) : (
            before
          )}
        </span>
        {sides.act !== 'compare' && (
          <span className={`${VALUE} bg-bed font-medium`} data-side={`${capital(sides.onto.name)} will hold`}>
            {collision ? (
              <Settle
                collision={collision}
                wishes={wishes}
                sides={sides}
                words={waysOf(sides)}
                edit={edit}
                isEditing={isEditing}
              />
            ) : held === null ? (
              <Nothing
                words={
                  item.outcome === 'left-out' && item.change === 'new'
                    ? 'not there'
                    : item.outcome !== 'left-out' && item.change === 'deleted'
                      ? 'goes'
                      : 'nothing'
                }
              />
            ) : (
              <>
                {picture(held === field.before ? 'destination' : 'source', held)}
                {shown(held)}
              </>
            )}
          </span>
        )}
      </div>
      {collision && sides.act !== 'compare' && (isEditing || take?.take === 'edited') && (
        <Edited
          start={
            take?.take === 'edited'
              ? (take.value ?? '')
              : bothTexts(field.base ?? '', field.source ?? '', field.before ?? '')
          }
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

/** The picture that a field names, as one side has it. */
export function FieldPicture({
  forecast,
  item,
  field,
  side,
  named,
}: {
  readonly forecast: Pick<Forecast, 'id' | 'fingerprint' | 'undoes'>;
  readonly item: string;
  readonly field: string;
  readonly side: 'base' | 'source' | 'destination';
  /** What the field holds. */
  readonly named: string;
}): JSX.Element | null {
  const file = useQuery({
    queryKey: ['forecast', forecast.id, 'file', item, side, field, named, forecast.fingerprint],
    // What an undo brings back is not there any more.
    enabled: forecast.undoes === null || side === 'destination',
    queryFn: () => client.call('forecastFile', { params: { id: forecast.id }, query: { item, side, field } }),
    staleTime: 60_000,
  }).data;
  return file?.is === 'picture' ? (
    <img
      className="mb-4 block h-84 w-84 bg-bed object-contain"
      src={`data:${file.type};base64,${file.content}`}
      alt={named}
    />
  ) : null;
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
