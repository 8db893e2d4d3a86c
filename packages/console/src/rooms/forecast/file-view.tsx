import { useQuery } from '@tanstack/react-query';
import type { Forecast, ForecastItem, ShownFile } from '@tessarion/contract';
import { diffLines } from 'diff';
import { Fragment, type JSX, type ReactNode } from 'react';
import { Icon } from '../../parts/icon.js';
import { Failure } from '../../parts/states.js';
import { size } from '../../parts/words.js';
import { client } from '../../session.js';
import { Changed, Replaced } from './diff.js';
import type { Sides } from './settle.js';

const MOST_LINES = 600;

/** What people say of single lines, and how one begins to. */
interface LineTalk {
  /** What is said of a line of the source's file; null where nothing is. */
  readonly about: (line: number) => ReactNode | null;
  /** Absent for who may not. */
  readonly begin?: ((line: number) => void) | undefined;
  /** What is said of lines that are not among those shown. */
  readonly rest: (shown: ReadonlySet<number>) => ReactNode;
}

type Ends = { readonly [End in 'from' | 'onto']: Pick<Sides[End], 'name' | 'kind'> };

/** A changed file: a picture before and after, or the lines of its text that differ. */
export function FileView({
  item,
  forecast,
  sides,
  isCompared = false,
  talk,
}: {
  readonly item: ForecastItem;
  readonly forecast: Forecast;
  readonly sides: Ends;
  /** Nothing moves: neither is where it comes from. */
  readonly isCompared?: boolean;
  readonly talk?: LineTalk;
}): JSX.Element | null {
  const source = useFile(item, forecast, 'source');
  const destination = useFile(item, forecast, 'destination');
  if (source.isLoadingError || destination.isLoadingError) return <Failure error={source.error ?? destination.error} />;
  if (!source.data || !destination.data) return null;
  const [after, before] = [source.data, destination.data];
  const notes = isCompared ? (['', ''] as const) : ([', where it comes from', ', as it is now'] as const);
  if (after.is === 'picture' || before.is === 'picture')
    return (
      <div className="grid grid-cols-[1fr_1fr] gap-2 p-16 max-desk:grid-cols-[1fr]">
        <Picture file={after} label={`${sides.from.name}${notes[0]}`} />
        <Picture file={before} label={`${sides.onto.name}${notes[1]}`} />
      </div>
    );
  if (after.is === 'text' || before.is === 'text')
    return (
      <Lines
        before={before.is === 'text' ? before.text : ''}
        after={after.is === 'text' ? after.text : ''}
        sides={sides}
        notes={notes}
        talk={talk}
      />
    );
  return (
    <p className="px-16 py-8 text-ink2">
      {before.is === 'other' ? `${size(before.bytes)} on ${sides.onto.name}` : `not on ${sides.onto.name}`},{' '}
      {after.is === 'other' ? `${size(after.bytes)} on ${sides.from.name}` : `not on ${sides.from.name}`}
    </p>
  );
}

const useFile = (item: ForecastItem, forecast: Forecast, side: 'source' | 'destination') =>
  useQuery({
    queryKey: ['forecast', forecast.id, 'file', item.id, side, forecast.fingerprint],
    // What an undo brings back is not there any more.
    enabled: forecast.undoes === null || side === 'destination',
    queryFn: () => client.call('forecastFile', { params: { id: forecast.id }, query: { item: item.id, side } }),
    staleTime: 60_000,
  });

function Picture({ file, label }: { readonly file: ShownFile; readonly label: string }): JSX.Element {
  return (
    <figure className="grid gap-8">
      {file.is === 'picture' ? (
        <img
          className="h-260 w-full bg-bed object-contain"
          src={`data:${file.type};base64,${file.content}`}
          alt={label}
        />
      ) : (
        <div className="grid h-260 w-full place-items-center bg-bed text-ink2">
          {file.is === 'other' ? `too large to show, ${size(file.bytes)}` : 'not there'}
        </div>
      )}
      <figcaption className="text-ink2">{label}</figcaption>
    </figure>
  );
}

/** Lines that differ, each beside its former self, changed words marked; what is alike is folded. */
function Lines({
  before,
  after,
  sides,
  notes,
  talk,
}: {
  readonly before: string;
  readonly after: string;
  readonly sides: Ends;
  /** What is said beside the name of each. */
  readonly notes: readonly [string, string];
  readonly talk: LineTalk | undefined;
}): JSX.Element {
  const rows = pairLines(before, after);
  // What was said of a line that is alike by now stands below, as what it was said of is not there any more.
  const shown = new Set(rows.slice(0, MOST_LINES).flatMap((row) => (row.is === 'unlike' ? (row.line ?? []) : [])));
  return (
    <>
      <table className="w-full table-fixed border-collapse mono text-small">
        <caption className="sr-only">Lines that differ</caption>
        <thead>
          <tr>
            {[sides.from, sides.onto].map(({ name }, i) => (
              <Fragment key={name}>
                <th className="static w-44 bg-course py-4" scope="col">
                  <span className="sr-only">Line on {name}</span>
                </th>
                <th className="static bg-course px-10 py-4 font-sans leading-18" scope="col">
                  {name}
                  {notes[i]}
                </th>
              </Fragment>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, MOST_LINES).map((row, i) =>
            row.is === 'folded' ? (
              <tr key={`${String(i)} folded`}>
                <td colSpan={4} className="h-auto bg-course px-16 py-2 text-ink3">
                  {row.count} {row.count === 1 ? 'line' : 'lines'} alike
                </td>
              </tr>
            ) : (
              <Fragment key={`${String(i)} ${row.before ?? ''} ${row.after ?? ''}`}>
                <tr className="group/line">
                  <td className={NUMBER}>{row.line}</td>
                  <td className={`${CELL} ${tintOf(row, 'after', sides.from.kind)}`}>
                    {talk?.begin && row.is === 'unlike' && row.line !== null && (
                      <button
                        type="button"
                        className="float-right grid size-24 place-items-center border border-line bg-slab text-ink2 hover:text-accent"
                        aria-label={`Comment on line ${row.line}`}
                        title={`Comment on line ${row.line}`}
                        onClick={() => talk.begin?.(row.line as number)}
                      >
                        <Icon name="plus" size={12} />
                      </button>
                    )}
                    {row.after !== null &&
                      (row.is === 'alike' ? (
                        <Alike text={row.after} />
                      ) : (
                        <Changed before={row.before} after={row.after} />
                      ))}
                  </td>
                  <td className={NUMBER}>{row.lineThere}</td>
                  <td className={`${CELL} ${tintOf(row, 'before', sides.onto.kind)}`}>
                    {row.before !== null &&
                      (row.is === 'alike' ? (
                        <Alike text={row.before} />
                      ) : row.after === null ? (
                        <del>{row.before}</del>
                      ) : (
                        <Replaced before={row.before} after={row.after} />
                      ))}
                  </td>
                </tr>
                {talk && row.is === 'unlike' && row.line !== null && talk.about(row.line) !== null && (
                  <tr>
                    <td
                      colSpan={4}
                      data-line={row.line}
                      className="h-auto border-b-0 px-16 py-1 align-top font-sans text-base whitespace-normal"
                    >
                      {talk.about(row.line)}
                    </td>
                  </tr>
                )}
              </Fragment>
            ),
          )}
          {rows.length > MOST_LINES && (
            <tr>
              <td colSpan={4} className="h-auto px-16 py-4 text-ink3">
                and {rows.length - MOST_LINES} more
              </td>
            </tr>
          )}
        </tbody>
      </table>
      {talk?.rest(shown)}
    </>
  );
}

const NUMBER = 'h-auto border-b-0 py-1 pr-8 text-right align-top text-ink3 select-none';
const CELL = 'h-auto wrap-anywhere border-b-0 px-10 py-1 align-top whitespace-pre-wrap';

/** A line around what differs; of a long one its beginning. */
const Alike = ({ text }: { readonly text: string }): JSX.Element => <span className="line-clamp-2">{text}</span>;

/** A line in the tint of the side that changed it, faint where it is as on the other, empty where it is not. */
const tintOf = (row: Exclude<LineRow, { is: 'folded' }>, side: 'before' | 'after', kind: string): string =>
  row[side] === null ? 'bg-course' : row.is === 'alike' ? 'text-ink3' : side === 'after' ? `bg-kind-tint ${kind}` : '';

type LineRow =
  | { readonly is: 'folded'; readonly count: number }
  | {
      readonly is: 'alike' | 'unlike';
      readonly before: string | null;
      readonly after: string | null;
      /** Number of the line in the source's file; null for one that goes. */
      readonly line: number | null;
      /** And in the destination's; null for one that comes. */
      readonly lineThere: number | null;
    };

/** Lines that are shown around those that differ. */
const CONTEXT = 3;

/** Lines of both files beside each other; what is alike is folded, but for the lines around what differs. */
function pairLines(before: string, after: string): LineRow[] {
  const rows: LineRow[] = [];
  let gone: string[] = [];
  let [line, lineThere] = [0, 0];
  const linesOf = (text: string): string[] => text.replace(/\n$/, '').split('\n');
  const flush = (come: readonly string[]): void => {
    for (let i = 0; i < Math.max(gone.length, come.length); i++)
      rows.push({
        is: 'unlike',
        before: gone[i] ?? null,
        after: come[i] ?? null,
        line: i < come.length ? ++line : null,
        lineThere: i < gone.length ? ++lineThere : null,
      });
    gone = [];
  };
  const alike = (texts: readonly string[]): void => {
    for (const text of texts)
      rows.push({ is: 'alike', before: text, after: text, line: ++line, lineThere: ++lineThere });
  };
  const parts = diffLines(before, after);
  for (const [i, part] of parts.entries()) {
    if (part.removed) gone.push(...linesOf(part.value));
    else if (part.added) flush(linesOf(part.value));
    else {
      flush([]);
      const texts = linesOf(part.value);
      const [first, last] = [i === 0 ? 0 : CONTEXT, i === parts.length - 1 ? 0 : CONTEXT];
      const count = texts.length - first - last;
      if (count < 2) alike(texts);
      else {
        alike(texts.slice(0, first));
        rows.push({ is: 'folded', count });
        line += count;
        lineThere += count;
        alike(texts.slice(texts.length - last));
      }
    }
  }
  flush([]);
  return rows;
}
