import type { ForecastField, ForecastItem, RequestDetail, RequestItem } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { type JSX, type ReactNode, useState } from 'react';
import { Button, TextButton } from '../../parts/button.js';
import { Icon } from '../../parts/icon.js';
import { Empty } from '../../parts/states.js';
import { useForecast } from '../../session.js';
import { Changed, Replaced } from '../forecast/diff.js';
import { FieldPicture } from '../forecast/field-row.js';
import { FileView } from '../forecast/file-view.js';
import { readable, readsAlike } from '../forecast/readable.js';
import { Collisions } from './collisions.js';
import { ThreadView, threadsAbout, Writing } from './threads.js';
import type { Deeds } from './use-request.js';

/** How a line of a file is called in a conversation. */
const lineName = (line: number): string => `line ${line}`;

/** What becomes of an item, field by field, with what people say of each. */
export function ItemValues({
  request,
  item,
  shown,
  me,
  mayComment,
  deeds,
  see,
}: {
  readonly request: RequestDetail;
  readonly item: RequestItem;
  /** The item as its forecast shows it; undefined while it is read. */
  readonly shown: ForecastItem | undefined;
  readonly me: string;
  readonly mayComment: boolean;
  readonly deeds: Deeds;
  readonly see: (item: RequestItem) => void;
}): JSX.Element {
  const [writing, setWriting] = useState<string>();
  const [isAll, setAll] = useState(false);
  const forecast = useForecast(request.forecast);
  const onto = request.onto.split('/')[1] ?? request.onto;
  const kind = onto === 'live' ? 'live' : 'staging';
  const source = request.from.split('/')[1] ?? request.from;
  const about = (field: string | undefined) => ({ item: item.id, ...(field === undefined ? {} : { field }) });
  const threads = (field: string | null) =>
    threadsAbout(request, item.id, field).map((thread) => (
      <ThreadView key={thread.id} thread={thread} me={me} mayComment={mayComment} deeds={deeds} />
    ));
  const isNew = item.change === 'new';
  // A new thing has nothing beside it.
  const columns = isNew ? 'grid-cols-[96px_minmax(0,1fr)_104px]' : 'grid-cols-[96px_minmax(0,1fr)_minmax(0,1fr)_104px]';
  const hidden = shown?.fields.filter((field) => field.isHidden).length ?? 0;
  const picture = (field: ForecastField, side: 'source' | 'destination', named: string | null) =>
    forecast.data && field.show === 'picture' && named ? (
      <FieldPicture forecast={forecast.data} item={item.id} field={field.name} side={side} named={named} />
    ) : null;
  const isFile = shown !== undefined && shown.fields.length === 0;
  /** What is said of a field or line, with the field in which one writes. */
  const aboutField = (field: string): JSX.Element | null =>
    threadsAbout(request, item.id, field).length > 0 || writing === field ? (
      <div className={isFile ? 'pt-4 pb-8 pl-12' : 'col-[2/-1] px-8 pb-8 max-desk:col-1 max-desk:p-0'}>
        {threads(field)}
        {writing === field && (
          <Writing
            deeds={deeds}
            about={about(field)}
            label={`Comment on ${shown?.fields.find((one) => one.name === field)?.label ?? field}`}
            button="Comment"
            close={() => setWriting(undefined)}
          />
        )}
      </div>
    ) : null;
  // Lines of which a former revision spoke may be alike now.
  const spokenLines = [
    ...new Set(threadsAbout(request, item.id).flatMap((one) => (one.field?.startsWith('line ') ? [one.field] : []))),
  ];
  return (
    <>
      <header className="flex items-center gap-6 px-16 py-8">
        <div>
          <h2 className="text-title/22 wrap-anywhere">{item.title}</h2>
          <p className="text-ink2">
            {item.kind} · {item.change}
            {item.takenAlongFor !== null && <> · comes along with {item.takenAlongFor}</>}
            {item.since > 1 && <> · as it is since revision {item.since}</>}
          </p>
        </div>
        <span className="flex-1 max-desk:hidden" />
        <Button aria-pressed={item.isSeen} onClick={() => see(item)}>
          {item.isSeen && <Icon name="check" />}
          {item.isSeen ? 'Seen' : 'Mark as seen'} <kbd>v</kbd>
        </Button>
      </header>
      {shown && <Collisions request={request} item={shown} deeds={deeds} />}
      {threads(null)}
      <div className="border-t border-line" hidden={isFile}>
        <div className={`grid ${columns} bg-course text-small/28 text-ink3 max-desk:hidden`}>
          <span className="px-8" />
          {!isNew && <span className="px-8">{onto} has</span>}
          <span className="px-8">
            {onto} will hold, from {source}
          </span>
          <span className="px-8" />
        </div>
        {shown?.fields.map((field) => (
          <div
            key={field.name}
            data-field={field.name}
            // What nobody came for stands back, until somebody speaks of it.
            hidden={field.isHidden && !isAll && aboutField(field.name) === null}
            className={`group grid ${columns} border-b border-line max-desk:grid-cols-1 max-desk:px-12 max-desk:py-4`}
          >
            <span className="py-6 pr-8 pl-16 text-small/20 wrap-anywhere text-ink3 max-desk:px-0 max-desk:pt-4 max-desk:pb-0">
              {field.label}
            </span>
            {!isNew && (
              <span className="border-l border-line px-8 py-6 wrap-anywhere whitespace-pre-line text-ink2 max-desk:px-0 max-desk:py-4">
                {before(field, picture(field, 'destination', field.before))}
              </span>
            )}
            <span
              className={`wrap-anywhere whitespace-pre-line border-line border-l bg-kind-tint px-8 py-6 max-desk:py-4 ${kind}`}
            >
              {after(field, item, picture(field, 'source', field.after))}
            </span>
            <span className="px-8 py-2 text-right max-desk:p-0 max-desk:text-left">
              {mayComment && (
                <Button
                  bare
                  small
                  className="text-ink3! hover:text-ink!"
                  aria-label={`Comment on ${field.label}`}
                  onClick={() => setWriting(writing === field.name ? undefined : field.name)}
                >
                  <Icon name="plus" />
                  Comment
                </Button>
              )}
            </span>
            {aboutField(field.name)}
          </div>
        ))}
        {hidden > 0 && (
          <TextButton className="mx-16 my-4" aria-expanded={isAll} onClick={() => setAll(!isAll)}>
            {isAll ? 'Only what counts' : counted(hidden, 'more field')}
          </TextButton>
        )}
        {!shown && <Empty title="Not in its forecast any more">The request is being looked at again.</Empty>}
      </div>
      {shown && isFile && forecast.data && (
        <FileView
          item={shown}
          forecast={forecast.data}
          sides={{
            from: { name: source, kind: source === 'live' ? 'live' : 'staging' },
            onto: { name: onto, kind },
          }}
          talk={{
            about: (line) => aboutField(lineName(line)),
            begin: mayComment ? (line) => setWriting(lineName(line)) : undefined,
            rest: (lines) =>
              spokenLines
                .filter((field) => ![...lines].some((line) => lineName(line) === field))
                .map((field) => (
                  <div key={field} className="px-16" data-elsewhere>
                    <p className="mt-8 text-ink3">{field}, which is not among these now</p>
                    {threads(field)}
                  </div>
                )),
          }}
        />
      )}
      {mayComment && (
        <div className="px-16">
          <Writing deeds={deeds} about={about(undefined)} label={`Comment on ${item.title}`} button="Comment" />
        </div>
      )}
    </>
  );
}

const shownOf = (field: ForecastField, value: string | null): string | null =>
  readable(field.show, value, readsAlike(field));

const before = (field: ForecastField, picture: ReactNode): JSX.Element => (
  <>
    {picture}
    {field.before === null ? (
      <em>nothing</em>
    ) : (
      <Replaced before={shownOf(field, field.before) ?? ''} after={shownOf(field, field.after)} />
    )}
  </>
);

const after = (field: ForecastField, item: RequestItem, picture: ReactNode): JSX.Element => (
  <>
    {picture}
    {field.after === null ? (
      <em>{item.change === 'deleted' ? 'goes' : 'nothing'}</em>
    ) : item.change === 'new' ? (
      // All of a new thing is new; nothing stands out in it.
      <span>{shownOf(field, field.after)}</span>
    ) : (
      <Changed before={shownOf(field, field.before)} after={shownOf(field, field.after) ?? ''} />
    )}
  </>
);
