import type { ForecastField, ForecastItem, RequestDetail, RequestItem } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Icon } from '../../parts/icon.js';
import { Empty } from '../../parts/states.js';
import { useForecast } from '../../session.js';
import { Changed, Replaced } from '../forecast/diff.js';
import { FileView } from '../forecast/file-view.js';
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
  const forecast = useForecast(request.forecast);
  const onto = request.onto.split('/')[1] ?? request.onto;
  const kind = onto === 'live' ? 'live' : 'staging';
  const source = request.from.split('/')[1] ?? request.from;
  const about = (field: string | undefined) => ({ item: item.id, ...(field === undefined ? {} : { field }) });
  const threads = (field: string | null) =>
    threadsAbout(request, item.id, field).map((thread) => (
      <ThreadView key={thread.id} thread={thread} me={me} mayComment={mayComment} deeds={deeds} />
    ));
  /** What is said of a field or line, with the field in which one writes. */
  const aboutField = (field: string): JSX.Element | null =>
    threadsAbout(request, item.id, field).length > 0 || writing === field ? (
      <div className="vt">
        {threads(field)}
        {writing === field && (
          <Writing
            deeds={deeds}
            about={about(field)}
            label={`Comment on ${field}`}
            button="Comment"
            close={() => setWriting(undefined)}
          />
        )}
      </div>
    ) : null;
  const isFile = shown !== undefined && shown.fields.length === 0;
  // Lines of which a former revision spoke may be alike now.
  const spokenLines = [
    ...new Set(threadsAbout(request, item.id).flatMap((one) => (one.field?.startsWith('line ') ? [one.field] : []))),
  ];
  return (
    <>
      <header className="dh">
        <div>
          <h2>{item.title}</h2>
          <p className="q">
            {item.kind} · {item.change}
            {item.takenAlongFor !== null && <> · comes along with {item.takenAlongFor}</>}
            {item.since > 1 && <> · as it is since revision {item.since}</>}
          </p>
        </div>
        <span className="sp" />
        <button type="button" className="btn" aria-pressed={item.isSeen} onClick={() => see(item)}>
          <Icon name={item.isSeen ? 'check' : 'find'} />
          {item.isSeen ? 'Seen' : 'Mark as seen'} <kbd>v</kbd>
        </button>
      </header>
      {shown && <Collisions request={request} item={shown} deeds={deeds} />}
      {threads(null)}
      <div className="vals" hidden={isFile}>
        <div className="vh">
          <span />
          <span>{onto} has</span>
          <span>
            {onto} will hold, from {source}
          </span>
          <span />
        </div>
        {(shown?.fields ?? []).map((field, i) => (
          <div key={field.name} className="vr">
            <span className="fn">{field.name}</span>
            <span className="v q">{item.change === 'new' && i > 0 ? '' : before(field, item)}</span>
            <span className={`v c ${kind}`}>{after(field, item)}</span>
            <span className="vc">
              {mayComment && (
                <button
                  type="button"
                  className="btn bare sm"
                  aria-label={`Comment on ${field.name}`}
                  onClick={() => setWriting(writing === field.name ? undefined : field.name)}
                >
                  <Icon name="plus" />
                  Comment
                </button>
              )}
            </span>
            {aboutField(field.name)}
          </div>
        ))}
        {!shown && <Empty title="Not in its forecast any more">The request is being looked at again.</Empty>}
      </div>
      {shown && isFile && forecast.data && (
        <FileView
          item={shown}
          forecast={forecast.data}
          sides={{ from: { name: source }, onto: { name: onto } }}
          talk={{
            about: (line) => aboutField(lineName(line)),
            begin: mayComment ? (line) => setWriting(lineName(line)) : undefined,
            rest: (lines) =>
              spokenLines
                .filter((field) => ![...lines].some((line) => lineName(line) === field))
                .map((field) => (
                  <div key={field} className="line-elsewhere">
                    <p className="qq">{field}, which is not among these now</p>
                    {threads(field)}
                  </div>
                )),
          }}
        />
      )}
      {mayComment && (
        <div className="vfoot">
          <Writing deeds={deeds} about={about(undefined)} label={`Comment on ${item.title}`} button="Comment" />
        </div>
      )}
    </>
  );
}

const before = (field: ForecastField, item: RequestItem): JSX.Element | string =>
  field.before === null ? (
    <em>{item.change === 'new' ? 'not there' : 'nothing'}</em>
  ) : (
    <Replaced before={field.before} after={field.after} />
  );

const after = (field: ForecastField, item: RequestItem): JSX.Element =>
  field.after === null ? (
    <em>{item.change === 'deleted' ? 'goes' : 'nothing'}</em>
  ) : item.change === 'new' ? (
    // All of a new thing is new; nothing stands out in it.
    <span>{field.after}</span>
  ) : (
    <Changed before={field.before} after={field.after} />
  );
