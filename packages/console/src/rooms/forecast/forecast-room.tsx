import { useMutation } from '@tanstack/react-query';
import type { Environment, Forecast, ForecastItem, ForecastWishes, Site } from '@tessarion/contract';
import { type JSX, useEffect, useRef } from 'react';
import { Link, Navigate, useNavigate, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../../keys.js';
import { placeOf } from '../../may.js';
import { Button } from '../../parts/button.js';
import { CopyText } from '../../parts/copy-text.js';
import { Fact, Facts } from '../../parts/facts.js';
import { Tick } from '../../parts/field.js';
import { Icon, OutcomeGlyph } from '../../parts/icon.js';
import { clock } from '../../parts/moments.js';
import { Plate } from '../../parts/plate.js';
import { Crumb } from '../../parts/room.js';
import { Empty, Failure, Loading, useLate } from '../../parts/states.js';
import { Ago, number, SentenceText, size } from '../../parts/words.js';
import { client, useForecast, useSite, useTransfer } from '../../session.js';
import { CONFIRM_HEIGHTS, ConfirmZone } from './confirm-zone.js';
import { Items } from './item-list.js';
import { useItems } from './use-items.js';
import { useWishes, type Wishes } from './wishes.js';

type Outcome = 'needs' | 'written' | 'kept' | 'never';

/** What a push, a pull or an undo would do: direction, sentence, outcomes, items with their values, and the button that does it. */
export function ForecastRoom(): JSX.Element {
  const { site: siteName = '' } = useParams();
  const [query, setQuery] = useSearchParams();
  const [from, onto, id] = [query.get('from') ?? '', query.get('onto') ?? '', query.get('id') ?? undefined];
  const undoes = query.get('undo');
  const isReplace = query.get('method') === 'replace';
  const snapshot = query.get('snapshot');
  const site = useSite(siteName);
  const make = useMutation({
    mutationFn: (wishes: ForecastWishes | undefined) =>
      undoes === null
        ? client.call('forecastCreate', {
            body: {
              from,
              onto,
              ...(isReplace ? { method: 'replace' as const } : {}),
              ...(snapshot === null ? {} : { snapshot }),
              ...(wishes === undefined ? {} : { wishes }),
            },
          })
        : client.call('forecastUndo', { params: { id: undoes }, body: wishes ?? {} }),
    onSuccess: (made) => {
      const next = new URLSearchParams(query);
      next.set('id', made.id);
      setQuery(next, { replace: true });
    },
  });
  const isAsked = useRef('');
  const find = (path: string): Environment | undefined => site.data?.environments.find((one) => one.path === path);
  const [source, destination] = [find(from), find(onto)];
  // Nothing moves between two of one kind: they are compared.
  const isCompared = undoes === null && snapshot === null && source !== undefined && source.kind === destination?.kind;
  const isKnown = !site.isPending;
  useEffect(() => {
    if (!isKnown || isCompared || id !== undefined || isAsked.current === `${from} ${onto}`) return;
    isAsked.current = `${from} ${onto}`;
    make.mutate(undefined);
  }, [isKnown, isCompared, id, from, onto, make]);
  const forecast = useForecast(id);
  const swap = (): void => {
    if (undoes !== null || snapshot !== null) return;
    isAsked.current = '';
    // The way back leads to this one, with all that was chosen and settled.
    setQuery({ from: onto, onto: from });
  };
  // What was chosen and decided holds on, and is not asked again.
  const again = (): void => {
    if (!make.isPending) make.mutate(forecast.data?.wishes);
  };
  const navigate = useNavigate();
  useKeys([
    { key: 'f', does: 'Forecast again', act: again },
    { key: 'x', does: 'Swap the two ends', act: swap },
    { key: 'Escape', does: `Back to ${siteName}`, act: () => void navigate(`/sites/${siteName}`) },
  ]);
  const data = forecast.data;
  if (isCompared) return <Navigate to={`/sites/${siteName}/compare?left=${from}&right=${onto}`} replace />;
  return (
    <>
      <Crumb
        way={[
          ['Fleet', '/'],
          [siteName, `/sites/${siteName}`],
        ]}
        here={undoes === null ? 'Forecast' : 'Undo'}
      >
        <span className="flex-1 max-desk:hidden" />
        {data && data.sentence.length > 0 && (
          <>
            <span className="text-ink3 max-desk:hidden">Made {clock(data.createdAt)}</span>
            {undoes === null && (
              <span className="text-ink3 max-desk:hidden">
                {data.baselineAt ? `Baseline ${clock(data.baselineAt)}` : 'No baseline'}
              </span>
            )}
            <span className="text-ink3 max-desk:hidden">
              Fingerprint{' '}
              <span className="mono text-small">
                {data.fingerprint.slice(0, 4)} {data.fingerprint.slice(4, 8)}
              </span>
            </span>
          </>
        )}
        <span className="max-desk:hidden">
          <CopyText text={window.location.href} label="the link to this forecast" words="Copy the link" />
        </span>
        <Button small className="max-desk:hidden" onClick={again}>
          Forecast again
        </Button>
      </Crumb>
      <main
        data-detail={query.has('item') || undefined}
        className="group/room grid min-h-0 flex-1 grid-cols-[432px_minmax(0,1fr)_280px] broad:grid-cols-[520px_minmax(0,1fr)_320px] grid-rows-[66px_auto_auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-[minmax(280px,38%)_minmax(0,1fr)_220px] max-desk:flex max-desk:min-h-auto max-desk:flex-col max-desk:pb-104"
      >
        <section
          className={`flex items-stretch gap-0 bg-slab px-16 pt-12 max-desk:flex-col max-desk:px-12 max-desk:pt-8 max-desk:group-data-detail/room:hidden ${make.isError || data?.state === 'failed' ? 'col-span-full' : 'col-[1/3]'}`}
          aria-label="Direction"
        >
          {undoes === null ? (
            <>
              <Plate side="from" label="From" path={from} one={source} />
              <Plate side="onto" label="Onto" path={onto} one={destination} swap={swap} />
            </>
          ) : (
            <>
              <UndonePlate id={undoes} />
              <Plate side="onto" label="From" path={onto} one={destination} />
            </>
          )}
        </section>
        {make.isError ? (
          <section className="col-span-full row-[auto/-1] overflow-auto bg-slab">
            <Failure error={make.error} />
          </section>
        ) : data?.state === 'failed' ? (
          <section className="col-span-full row-[auto/-1] overflow-auto bg-slab">
            <div className="mx-16 my-12 border-l-3 border-danger bg-danger-tint px-14 py-10" role="alert">
              <b>The forecast could not be made</b>
              <p>{data.failure?.message}</p>
              <p className="text-ink2">{data.failure?.next}</p>
            </div>
          </section>
        ) : data && data.sentence.length > 0 ? (
          <Ready forecast={data} site={site.data} from={source} onto={destination} />
        ) : (
          <Coming
            what={undoes === null ? `Reading ${from} and ${onto}` : `Reading what ${undoes} wrote`}
            isOntoLive={destination ? destination.kind === 'live' : onto.endsWith('/live')}
          />
        )}
      </main>
    </>
  );
}

/** A forecast that is being computed: every slab where it will be. */
function Coming({ what, isOntoLive }: { readonly what: string; readonly isOntoLive: boolean }): JSX.Element {
  const isLate = useLate();
  return (
    <>
      <section className="col-[1/3] -mt-2 bg-slab px-16 pt-8 pb-12 max-desk:px-12" aria-busy="true">
        <p className="text-sentence text-ink3 max-desk:text-[17px]/24">{isLate ? what : '\u00a0'}</p>
      </section>
      <div className={`col-3 row-[1/3] bg-slab max-desk:hidden ${CONFIRM_HEIGHTS[isOntoLive ? 'live' : 'copy']}`} />
      <div className="col-span-full grid grid-cols-4 gap-2 max-desk:grid-cols-[1fr_1fr]">
        {[0, 1, 2, 3].map((i) => (
          <div key={i} className="h-50 bg-slab" />
        ))}
      </div>
      <section className="min-h-0 bg-slab" aria-label="Items">
        <div className="h-40" />
        <Loading what={'\u00a0'} rows={8} />
      </section>
      <div className="col-[2/4] bg-slab max-desk:hidden" />
    </>
  );
}

/** The transfer that an undo takes back. */
function UndonePlate({ id }: { readonly id: string }): JSX.Element {
  const transfer = useTransfer(id).data;
  return (
    <div className="relative flex h-54 flex-1 items-center gap-10 bg-kind-tint py-8 pr-34 pl-14 plate-from max-desk:h-52 max-desk:flex-none max-desk:px-12">
      <span className="w-30 text-small text-ink2">Undo</span>
      <Icon name="undo" size={24} />
      <span className="flex flex-col leading-18 max-desk:-mt-8">
        <Link className="mono text-[14px] font-semibold" to={`/transfers/${id}`}>
          {id}
        </Link>
        <span className="text-ink2">
          {transfer && (
            <>
              {transfer.kind} by {transfer.person}, <Ago time={transfer.createdAt} suffix=" ago" />
            </>
          )}
        </span>
      </span>
    </div>
  );
}

function Ready({
  forecast,
  site,
  from,
  onto,
}: {
  readonly forecast: Forecast;
  readonly site: Site | undefined;
  readonly from: Environment | undefined;
  readonly onto: Environment | undefined;
}): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const { items } = useItems(forecast);
  const failed = forecast.checks.filter((check) => check.state === 'failed');
  const written = forecast.written.reduce((sum, one) => sum + one.count, 0);
  const kept = forecast.kept.reduce((sum, one) => sum + one.count, 0);
  const lost = forecast.lost.reduce((sum, one) => sum + one.count, 0);
  const wishes = useWishes(forecast);
  const needs = failed.length + forecast.unsettled + lost;
  const outcome = (query.get('show') as Outcome | null) ?? (needs > 0 ? 'needs' : 'written');
  const show = (next: Outcome): void => {
    const params = new URLSearchParams(query);
    params.set('show', next);
    params.delete('item');
    setQuery(params, { replace: true });
  };
  const bytes = forecast.parts.reduce((sum, part) => sum + part.bytes, 0);
  return (
    <>
      <section className="col-[1/3] -mt-2 bg-slab px-16 pt-8 pb-12 max-desk:px-12 max-desk:group-data-detail/room:hidden">
        <p
          className={`max-w-900 text-pretty text-sentence max-desk:text-[17px]/24 ${wishes.isCounting ? 'text-ink3' : ''}`}
          data-counting={wishes.isCounting}
          aria-live="polite"
        >
          <SentenceText pieces={forecast.sentence} />
        </p>
        <Touches forecast={forecast} />
        {forecast.tasks.length > 0 && <Tasks forecast={forecast} wishes={wishes} />}
      </section>
      <ConfirmZone
        forecast={forecast}
        onto={site && onto && placeOf(site, onto)}
        isCounting={wishes.isCounting}
        showNeeds={() => show('needs')}
      />
      <section
        className="col-span-full grid grid-cols-4 gap-2 max-desk:grid-cols-[1fr_1fr] max-desk:group-data-detail/room:hidden"
        aria-label="Outcomes"
      >
        <OutcomeTab
          outcome="needs"
          count={needs}
          title="Needs you"
          note={needsNote(forecast, failed.length, lost)}
          isOn={outcome === 'needs'}
          show={show}
        />
        <OutcomeTab
          outcome="written"
          count={written}
          title={forecast.undoes === null ? 'Will be written' : 'Will be taken back'}
          note={written === 0 ? 'nothing' : size(bytes)}
          isOn={outcome === 'written'}
          show={show}
        />
        <OutcomeTab
          outcome="kept"
          count={kept}
          title="Will be kept"
          note={
            titledFirst(forecast.kept)
              .map((one) => `${number(one.count)} ${one.count === 1 ? one.kind : one.plural}`)
              .join(', ') || 'nothing came in meanwhile'
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
        <>
          {wishes.error !== undefined && (
            <section className="bg-slab">
              <Failure error={wishes.error} />
            </section>
          )}
          <Items
            key={forecast.id}
            items={items}
            forecast={forecast}
            ends={{ from, onto }}
            wishes={wishes}
            look={outcome}
          />
        </>
      )}
    </>
  );
}

/** What writing it touches beside the values themselves: addresses rewritten, tables, triggers that fire. */
function Touches({ forecast }: { readonly forecast: Forecast }): JSX.Element | null {
  const { rewrites, touched } = forecast;
  const count = rewrites.reduce((sum, one) => sum + one.count, 0);
  const triggers = touched.flatMap((one) => one.triggers.map((name) => `${name} of ${one.table}`));
  if (touched.length === 0) return null;
  const rows = touched.reduce((sum, one) => sum + one.rows, 0);
  const places = rewrites.map((one) => `${number(one.count)} in ${one.table}.${one.column}`).join(', ');
  return (
    <p className="mt-4 text-ink3">
      <span title={touched.map((one) => `${one.table}: ${number(one.rows)}`).join(', ')}>
        writes {number(rows)} {rows === 1 ? 'row' : 'rows'} in{' '}
        {touched.length === 1 ? touched[0]?.table : `${touched.length} tables`}
      </span>
      {count > 0 && (
        <span title={places}>
          {' '}
          · rewrites {number(count)} {count === 1 ? 'address' : 'addresses'}
        </span>
      )}
      {triggers.length > 0 && (
        <span title={triggers.join(', ')}>
          {' '}
          · fires {triggers.slice(0, 2).join(', ')}
          {triggers.length > 2 ? ` and ${triggers.length - 2} more` : ''}
        </span>
      )}
    </p>
  );
}

const TASK_TIMES = { staged: 'before anybody sees it', held: 'while visitors wait', after: 'when it shows' } as const;

/** What the profile runs with it; what changes the schema only when somebody says so. */
function Tasks({ forecast, wishes }: { readonly forecast: Forecast; readonly wishes: Wishes }): JSX.Element {
  const chosen = wishes.current.tasks ?? [];
  return (
    <ul className="mt-4 flex flex-wrap items-center gap-x-20 gap-y-0 text-ink3" aria-label="Tasks">
      {forecast.tasks.map((task) => (
        <li key={task.name} title={task.command.join(' ')}>
          {task.changesSchema ? (
            <Tick>
              <input
                type="checkbox"
                checked={chosen.includes(task.name)}
                onChange={(event) => wishes.run(task.name, event.target.checked)}
              />
              <span>
                run <span className="mono">{task.name}</span> {TASK_TIMES[task.phase]}: it changes the schema
              </span>
            </Tick>
          ) : (
            <>
              runs <span className="mono">{task.name}</span> {TASK_TIMES[task.phase]}
            </>
          )}
        </li>
      ))}
    </ul>
  );
}

/** Things that people have a name for before rows of tables. */
const titledFirst = (amounts: Forecast['kept']): Forecast['kept'] =>
  amounts.toSorted((a, b) => Number(a.kind.startsWith('row of ')) - Number(b.kind.startsWith('row of ')));

function needsNote(forecast: Forecast, failed: number, lost: number): string {
  if (failed > 0) return 'a check stops it';
  if (forecast.unsettled > 0) return forecast.unsettled === 1 ? 'a collision' : 'collisions';
  return lost > 0 ? `overwrites ${forecast.onto.split('/')[1]}’s own work` : 'nothing';
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
  const needsYou = outcome === 'needs' && count > 0;
  return (
    <button
      type="button"
      className={`flex h-50 items-center gap-10 bg-slab px-16 py-8 text-left max-desk:h-auto max-desk:px-12 ${isOn ? 'laid-course after:inset-x-16' : ''}`}
      aria-pressed={isOn}
      onClick={() => show(outcome)}
    >
      <OutcomeGlyph outcome={outcome} className={needsYou ? '' : 'grayscale'} />
      <span className={`text-numeral font-stretch-112% max-desk:text-sentence ${needsYou ? 'text-accent' : ''}`}>
        {number(count)}
      </span>
      <span className="flex min-w-0 flex-1 flex-col leading-17">
        <b className={needsYou ? 'text-accent' : ''}>{title}</b>
        <span className="truncate text-small text-ink3 max-desk:hidden" title={note}>
          {note}
        </span>
      </span>
    </button>
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
          ...titledFirst(forecast.kept).map(
            (one) =>
              [
                `${number(one.count)} ${one.count === 1 ? one.kind : one.plural}`,
                `${forecast.onto} ${forecast.direction === 'up' ? 'took' : 'made or changed'} ${one.count === 1 ? 'it' : 'them'} itself meanwhile, and keeps ${one.count === 1 ? 'it' : 'them'}`,
              ] as const,
          ),
          ...items
            .filter((item) => item.outcome === 'kept')
            .map((item) => [`${item.kind} ${item.title}`, item.reason] as const),
        ];
  return (
    <section className="col-span-full row-[auto/-1] overflow-auto bg-slab">
      {rows.length === 0 ? (
        <Empty title={outcome === 'kept' ? 'Nothing came in meanwhile' : 'Every table takes part'}>
          What visitors make on live is listed here, and is never overwritten.
        </Empty>
      ) : (
        <Facts>
          {rows.map(([name, value]) => (
            <Fact key={name} name={name} isWide>
              <span className="text-ink2">{value}</span>
            </Fact>
          ))}
        </Facts>
      )}
    </section>
  );
}
