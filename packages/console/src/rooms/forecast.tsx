import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import type { Environment, Forecast, ForecastItem } from '@tessarion/contract';
import { diffWordsWithSpace } from 'diff';
import { type FormEvent, type JSX, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Icon, OutcomeGlyph } from '../parts/icon.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { Tile } from '../parts/tile.js';
import { Ago, clock, duration, number, SentenceText, size } from '../parts/words.js';
import { client, useForecast, useSite } from '../session.js';

type Outcome = 'needs' | 'written' | 'kept' | 'never';

/** What a push would do: direction, sentence, outcomes, items with their values, and the button that does it. */
export function ForecastRoom(): JSX.Element {
  const { site: siteName = '' } = useParams();
  const [query, setQuery] = useSearchParams();
  const [from, onto, id] = [query.get('from') ?? '', query.get('onto') ?? '', query.get('id') ?? undefined];
  const site = useSite(siteName);
  const make = useMutation({
    mutationFn: () => client.call('forecastCreate', { body: { from, onto } }),
    onSuccess: (made) => {
      const next = new URLSearchParams(query);
      next.set('id', made.id);
      next.delete('item');
      setQuery(next, { replace: true });
    },
  });
  const isAsked = useRef('');
  useEffect(() => {
    if (id !== undefined || isAsked.current === `${from} ${onto}`) return;
    isAsked.current = `${from} ${onto}`;
    make.mutate();
  }, [id, from, onto, make]);
  const forecast = useForecast(id);
  const swap = (): void => {
    isAsked.current = '';
    setQuery({ from: onto, onto: from }, { replace: true });
  };
  const again = (): void => {
    const next = new URLSearchParams(query);
    next.delete('id');
    isAsked.current = '';
    setQuery(next, { replace: true });
  };
  const navigate = useNavigate();
  useKeys({ x: swap, Escape: () => void navigate(`/sites/${siteName}`), f: again });
  const find = (path: string): Environment | undefined => site.data?.environments.find((one) => one.path === path);
  const data = forecast.data;
  return (
    <>
      <div className="crumb slab">
        <Link to="/">Fleet</Link>
        <i>/</i>
        <Link to={`/sites/${siteName}`}>{siteName}</Link>
        <i>/</i>
        <h1>Forecast</h1>
        <span className="sp" />
        {data?.state === 'ready' && (
          <>
            <span className="qq">Made {clock(data.createdAt)}</span>
            <span className="qq">{data.baselineAt ? `Baseline ${clock(data.baselineAt)}` : 'No baseline'}</span>
            <span className="qq">
              Fingerprint{' '}
              <span className="mono fp">
                {data.fingerprint.slice(0, 4)} {data.fingerprint.slice(4, 8)}
              </span>
            </span>
          </>
        )}
        <button type="button" className="btn" onClick={again}>
          Forecast again
        </button>
      </div>
      <main className="forecast">
        <section className="dirs slab" aria-label="Direction">
          <Plate side="src" label="From" path={from} one={find(from)} />
          <Plate side="dst" label="Onto" path={onto} one={find(onto)} swap={swap} />
        </section>
        {make.isError ? (
          <section className="wide slab">
            <Failure error={make.error} />
          </section>
        ) : data?.state === 'failed' ? (
          <section className="wide slab">
            <div className="failure" role="alert">
              <b>The forecast could not be made</b>
              <p>{data.failure?.message}</p>
              <p className="q">{data.failure?.next}</p>
            </div>
          </section>
        ) : data?.state === 'ready' ? (
          <Ready forecast={data} onto={find(onto)} />
        ) : (
          <section className="wide slab">
            <Loading what={`Reading ${from} and ${onto}`} rows={10} />
          </section>
        )}
      </main>
    </>
  );
}

function Plate({
  side,
  label,
  path,
  one,
  swap,
}: {
  readonly side: 'src' | 'dst';
  readonly label: string;
  readonly path: string;
  readonly one: Environment | undefined;
  readonly swap?: () => void;
}): JSX.Element {
  const kind = one?.kind ?? (path.endsWith('/live') ? 'live' : 'staging');
  return (
    <div className={`plate ${side} ${kind}`}>
      <span className="lb">{label}</span>
      <Tile kind={kind} state={one?.state ?? 'in-step'} size={32} />
      <span className="pl">
        <span className="mono nm">{path}</span>
        <span className="q">
          {one?.refreshedAt ? (
            <>
              live’s news came in <Ago time={one.refreshedAt} suffix=" ago" />
            </>
          ) : one?.kind === 'live' ? (
            'the public site'
          ) : (
            ''
          )}
        </span>
      </span>
      {swap && (
        <button type="button" className="btn bare swap" onClick={swap} aria-label="Swap the two ends">
          <Icon name="swap" size={16} />
          Swap
        </button>
      )}
    </div>
  );
}

function Ready({
  forecast,
  onto,
}: {
  readonly forecast: Forecast;
  readonly onto: Environment | undefined;
}): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const pages = useInfiniteQuery({
    queryKey: ['forecast', forecast.id, 'items'],
    queryFn: ({ pageParam }) =>
      client.call('forecastItems', {
        params: { id: forecast.id },
        query: { limit: 500, ...(pageParam === '' ? {} : { cursor: pageParam }) },
      }),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const items = useMemo(() => pages.data?.pages.flatMap((page) => page.items) ?? [], [pages.data]);
  const failed = forecast.checks.filter((check) => check.state === 'failed');
  const written = forecast.written.reduce((sum, one) => sum + one.count, 0);
  const kept = forecast.kept.reduce((sum, one) => sum + one.count, 0);
  const lost = forecast.lost.reduce((sum, one) => sum + one.count, 0);
  const outcome = (query.get('show') as Outcome | null) ?? (failed.length > 0 ? 'needs' : 'written');
  const show = (next: Outcome): void => {
    const params = new URLSearchParams(query);
    params.set('show', next);
    params.delete('item');
    setQuery(params, { replace: true });
  };
  const bytes = forecast.parts.reduce((sum, part) => sum + part.bytes, 0);
  return (
    <>
      <section className="say slab">
        <p className="sentence">
          <SentenceText pieces={forecast.sentence} />
        </p>
      </section>
      <ConfirmZone forecast={forecast} isLive={onto?.kind === 'live'} written={written} />
      <section className="outs" aria-label="Outcomes">
        <OutcomeTab
          outcome="needs"
          count={failed.length + Math.max(lost, 0)}
          title="Needs you"
          note={failed.length > 0 ? 'a check stops it' : lost > 0 ? 'overwrites live’s own work' : 'nothing'}
          isOn={outcome === 'needs'}
          show={show}
        />
        <OutcomeTab
          outcome="written"
          count={written}
          title="Will be written"
          note={written === 0 ? 'both ends agree' : size(bytes)}
          isOn={outcome === 'written'}
          show={show}
        />
        <OutcomeTab
          outcome="kept"
          count={kept}
          title="Will be kept"
          note={
            forecast.kept.map((one) => `${number(one.count)} ${one.count === 1 ? one.kind : one.plural}`).join(', ') ||
            'nothing came in meanwhile'
          }
          isOn={outcome === 'kept'}
          show={show}
        />
        <OutcomeTab
          outcome="never"
          count={forecast.neverMoves.length}
          title="Never moves"
          note={`tables: ${forecast.neverMoves.map((one) => one.table).join(', ') || 'none'}`}
          isOn={outcome === 'never'}
          show={show}
        />
      </section>
      {outcome === 'never' || outcome === 'kept' ? (
        <Plain forecast={forecast} outcome={outcome} items={items} />
      ) : (
        <Items
          items={items.filter((item) => item.outcome === 'written' && (outcome === 'written' || item.overwrites))}
          forecast={forecast}
          isNeeds={outcome === 'needs'}
          onto={onto}
        />
      )}
    </>
  );
}

function OutcomeTab({
  outcome,
  count,
  title,
  note,
  isOn,
  show,
}: {
  readonly outcome: Outcome;
  readonly count: number;
  readonly title: string;
  readonly note: string;
  readonly isOn: boolean;
  readonly show: (outcome: Outcome) => void;
}): JSX.Element {
  return (
    <button
      type="button"
      className={`o slab ${outcome === 'needs' && count > 0 ? 'need' : ''} ${isOn ? 'on course' : ''}`}
      aria-pressed={isOn}
      onClick={() => show(outcome)}
    >
      <OutcomeGlyph outcome={outcome} />
      <span className="num">{number(count)}</span>
      <span className="ol">
        <b>{title}</b>
        <span className="qq" title={note}>
          {note}
        </span>
      </span>
    </button>
  );
}

/** Checks, time, and the button: locked until nothing stops it; onto live the destination must be typed. */
function ConfirmZone({
  forecast,
  isLive,
  written,
}: {
  readonly forecast: Forecast;
  readonly isLive: boolean;
  readonly written: number;
}): JSX.Element {
  const navigate = useNavigate();
  const [typed, setTyped] = useState('');
  const push = useMutation({
    mutationFn: () =>
      client.call('pushCreate', { body: { forecast: forecast.id, ...(isLive ? { confirm: typed } : {}) } }),
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  const passed = forecast.checks.filter((check) => check.state === 'passed').length;
  const warnings = forecast.checks.filter((check) => check.state === 'warning');
  const failed = forecast.checks.filter((check) => check.state === 'failed');
  const isOpen = failed.length === 0 && written > 0;
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (isOpen && (!isLive || typed === forecast.onto)) push.mutate();
  };
  return (
    <form className="conf slab" onSubmit={submit} aria-label="Confirm">
      <div className="chk">
        <Icon name="check" />
        <span>{passed === 1 ? '1 check' : `${passed} checks`} passed</span>
        {warnings.length > 0 && (
          <span className="wn" title={warnings.map((check) => check.message).join('\n')}>
            <Icon name="warn" />
            {warnings.length === 1 ? '1 warning' : `${warnings.length} warnings`}
          </span>
        )}
      </div>
      <div className="q est">
        <Icon name="undo" />
        {forecast.estimateSeconds === null ? '' : `About ${duration(forecast.estimateSeconds)}, `}
        {forecast.holdMilliseconds === null ? '' : `visitors wait ${number(forecast.holdMilliseconds)} ms, `}undo stays
        possible
      </div>
      {push.isError && <Failure error={push.error} />}
      {!isOpen ? (
        <>
          <span className="btn locked" aria-disabled="true">
            <Icon name="lock" />
            {forecast.button}
          </span>
          <span className="why-locked">{failed[0] ? failed[0].message : 'Both ends agree'}</span>
        </>
      ) : (
        <div className="ready-zone">
          {isLive && (
            <label>
              <span className="q">
                Onto live: type <span className="mono">{forecast.onto}</span>
              </span>
              <input
                className="mono"
                spellCheck={false}
                autoComplete="off"
                value={typed}
                onChange={(event) => setTyped(event.target.value)}
              />
            </label>
          )}
          <button
            type="submit"
            className="btn main big"
            disabled={push.isPending || (isLive && typed !== forecast.onto)}
          >
            {forecast.button}
          </button>
        </div>
      )}
    </form>
  );
}

function Plain({
  forecast,
  outcome,
  items,
}: {
  readonly forecast: Forecast;
  readonly outcome: 'kept' | 'never';
  readonly items: readonly ForecastItem[];
}): JSX.Element {
  const rows =
    outcome === 'never'
      ? forecast.neverMoves.map((one) => [one.table, one.because] as const)
      : [
          ...forecast.kept.map(
            (one) =>
              [
                `${number(one.count)} ${one.count === 1 ? one.kind : one.plural}`,
                `${forecast.onto} took ${one.count === 1 ? 'it' : 'them'} meanwhile, and keeps ${one.count === 1 ? 'it' : 'them'}`,
              ] as const,
          ),
          ...items
            .filter((item) => item.outcome === 'kept')
            .map((item) => [`${item.kind} ${item.title}`, item.reason] as const),
        ];
  return (
    <section className="wide slab">
      {rows.length === 0 ? (
        <Empty title={outcome === 'kept' ? 'Nothing came in meanwhile' : 'Every table takes part'}>
          What visitors make on live is listed here, and is never overwritten.
        </Empty>
      ) : (
        <dl className="facts">
          {rows.map(([name, value]) => (
            <div key={name}>
              <dt>{name}</dt>
              <dd className="q">{value}</dd>
            </div>
          ))}
        </dl>
      )}
    </section>
  );
}

function Items({
  items,
  forecast,
  isNeeds,
  onto,
}: {
  readonly items: readonly ForecastItem[];
  readonly forecast: Forecast;
  readonly isNeeds: boolean;
  readonly onto: Environment | undefined;
}): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const [text, setText] = useState('');
  const scroll = useRef<HTMLDivElement>(null);
  const field = useRef<HTMLInputElement>(null);
  const shown = useMemo(
    () => items.filter((item) => `${item.kind} ${item.title}`.toLowerCase().includes(text.toLowerCase())),
    [items, text],
  );
  const current = shown.find((item) => item.id === query.get('item')) ?? shown[0];
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => (window.matchMedia('(max-width: 720px)').matches ? 44 : 32),
    overscan: 10,
  });
  const choose = (item: ForecastItem | undefined): void => {
    if (!item) return;
    const next = new URLSearchParams(query);
    next.set('item', item.id);
    setQuery(next, { replace: true });
  };
  const move = (step: number): void => {
    const index = Math.min(shown.length - 1, Math.max(0, shown.findIndex((item) => item.id === current?.id) + step));
    choose(shown[index]);
    virtual.scrollToIndex(index);
  };
  useKeys({ j: () => move(1), k: () => move(-1), '/': () => field.current?.focus() });
  const failed = forecast.checks.filter((check) => check.state === 'failed');
  return (
    <>
      <section className="list slab" aria-label="Items">
        <div className="tools">
          <label className="fl">
            <Icon name="find" />
            <input
              ref={field}
              value={text}
              onChange={(event) => setText(event.target.value)}
              placeholder="Title, path, kind"
              aria-label="Filter items"
            />
            <kbd>/</kbd>
          </label>
        </div>
        <div className="scroll" ref={scroll}>
          <div className={`g ${isNeeds ? 'acc' : ''}`}>
            <OutcomeGlyph outcome={isNeeds ? 'needs' : 'written'} />
            <b>{isNeeds ? 'Overwrites live’s own work' : 'Will be written'}</b>
            <span className="qq">{number(shown.length)}</span>
          </div>
          {failed.map((check) => (
            <p key={check.message} className="stopper">
              <b>{check.message}</b> {check.remedy}
            </p>
          ))}
          {shown.length === 0 && failed.length === 0 && (
            <Empty title={items.length === 0 ? (isNeeds ? 'Nothing needs you' : 'Both ends agree') : 'No item fits'}>
              {isNeeds
                ? 'Live changed nothing that this would overwrite.'
                : 'Change something on the source, and it is listed here.'}
            </Empty>
          )}
          <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
            {virtual.getVirtualItems().map((row) => {
              const item = shown[row.index] as ForecastItem;
              return (
                <button
                  key={item.id}
                  type="button"
                  className={`it ${item.id === current?.id ? 'cur' : ''}`}
                  aria-pressed={item.id === current?.id}
                  onClick={() => choose(item)}
                  style={{ position: 'absolute', top: 0, left: 0, right: 0, transform: `translateY(${row.start}px)` }}
                >
                  <svg className="cb" width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
                    <rect
                      x=".75"
                      y=".75"
                      width="12.5"
                      height="12.5"
                      fill={item.overwrites ? 'none' : 'var(--ink2)'}
                      stroke={item.overwrites ? 'var(--accent)' : 'var(--ink2)'}
                      strokeWidth={1.5}
                    />
                    <path
                      d={item.overwrites ? 'M7,3V8M7,10V11.2' : 'M3.5,7L6,9.5L10.5,4.5'}
                      fill="none"
                      stroke={item.overwrites ? 'var(--accent)' : 'var(--slab)'}
                      strokeWidth={1.6}
                    />
                  </svg>
                  <span className="kd">{item.kind}</span>
                  <span className="tt" title={item.title}>
                    {item.title}
                  </span>
                  <span className="ch q">
                    {item.change === 'changed'
                      ? item.fields.map((one) => one.name).join(', ') || 'content'
                      : item.change}
                  </span>
                </button>
              );
            })}
          </div>
        </div>
      </section>
      <section className="det slab" aria-label="Values">
        {current ? (
          <ItemDetail item={current} onto={onto} forecast={forecast} />
        ) : (
          <Empty title="Nothing to show">Choose an item to see its values side by side.</Empty>
        )}
      </section>
    </>
  );
}

const LONGEST_DIFF = 4000;

/** Numbers, dates and single words are replaced as a whole. */
const isOneWord = (...values: readonly string[]): boolean => values.every((value) => !/\s/.test(value.trim()));

/** Words that the source changed stand out; the rest is as it was. */
function Changed({ before, after }: { readonly before: string | null; readonly after: string }): JSX.Element {
  if (before === null || isOneWord(before, after) || before.length + after.length > LONGEST_DIFF)
    return <ins>{after}</ins>;
  return (
    <>
      {diffWordsWithSpace(before, after)
        .filter((part) => !part.removed)
        .map((part, i) =>
          part.added ? (
            <ins key={`${String(i)} ${part.value}`}>{part.value}</ins>
          ) : (
            <span key={`${String(i)} ${part.value}`}>{part.value}</span>
          ),
        )}
    </>
  );
}

/** What is replaced is struck through. */
function Replaced({ before, after }: { readonly before: string; readonly after: string | null }): JSX.Element {
  if (after !== null && isOneWord(before, after)) return <del>{before}</del>;
  if (after === null || before.length + after.length > LONGEST_DIFF) return <>{before}</>;
  return (
    <>
      {diffWordsWithSpace(before, after)
        .filter((part) => !part.added)
        .map((part, i) =>
          part.removed ? (
            <del key={`${String(i)} ${part.value}`}>{part.value}</del>
          ) : (
            <span key={`${String(i)} ${part.value}`}>{part.value}</span>
          ),
        )}
    </>
  );
}

function ItemDetail({
  item,
  onto,
  forecast,
}: {
  readonly item: ForecastItem;
  readonly onto: Environment | undefined;
  readonly forecast: Forecast;
}): JSX.Element {
  const fromName = forecast.from.split('/')[1] ?? '';
  const ontoName = forecast.onto.split('/')[1] ?? '';
  const fromKind = fromName === 'live' ? 'live' : onto?.kind === 'staging' ? 'dev' : 'staging';
  return (
    <>
      <header className="dh">
        <div>
          <h2>{item.title}</h2>
          <p className="q">
            {item.kind} <span className="mono">{item.key}</span> · {item.part}
            {item.overwrites && (
              <b className="acc"> · {ontoName} changed this meanwhile, and its work would be overwritten</b>
            )}
          </p>
        </div>
      </header>
      <div className="cmp two">
        <div className="ch0">
          <span />
          <span className={`hd ${onto?.kind ?? 'live'}`}>
            <Tile kind={onto?.kind ?? 'live'} state="in-step" size={22} decorative />
            <span>
              <b>{ontoName}</b>
              <em>as it is now</em>
            </span>
          </span>
          <span className={`hd ${fromKind}`}>
            <Tile kind={fromKind} state="in-step" size={22} decorative />
            <span>
              <b>{fromName}</b>
              <em>what {ontoName} will hold</em>
            </span>
          </span>
        </div>
        {item.fields.map((field) => (
          <div key={field.name} className="f">
            <span className="fn">{field.name}</span>
            <span className={`v ${item.change === 'changed' ? 'same' : ''}`}>
              {item.change === 'changed' && field.before !== null ? (
                <Replaced before={field.before} after={field.after} />
              ) : field.before === null ? (
                <em>{item.change === 'new' ? 'not there' : 'empty'}</em>
              ) : (
                field.before
              )}
            </span>
            <span className={`v c ${fromKind}`}>
              {field.after === null ? (
                <em>{item.change === 'deleted' ? 'goes' : 'empty'}</em>
              ) : item.change === 'changed' ? (
                <Changed before={field.before} after={field.after} />
              ) : (
                field.after
              )}
            </span>
          </div>
        ))}
        {item.fields.length === 0 && (
          <div className="f">
            <span className="fn">File</span>
            <span className="v same">{item.change === 'new' ? <em>not there</em> : 'the file as it is'}</span>
            <span className={`v c ${fromKind}`}>
              {item.change === 'deleted' ? (
                <em>goes</em>
              ) : (
                <ins>{item.change === 'new' ? 'a new file' : 'the source’s file'}</ins>
              )}
            </span>
          </div>
        )}
      </div>
    </>
  );
}
