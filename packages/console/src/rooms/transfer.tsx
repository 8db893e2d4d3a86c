import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { TransferDetail } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Icon } from '../parts/icon.js';
import { kindOf, measureProgress } from '../parts/progress.js';
import { Failure, Unread } from '../parts/states.js';
import { Tile } from '../parts/tile.js';
import { Ago, clock, duration, number, SentenceText, size, useNow } from '../parts/words.js';
import { client, useSite, useTransfer } from '../session.js';
import { TransferActs } from './transfer-acts.js';

/** One transfer, live while it runs; afterwards what it wrote, and its undo. */
export function TransferRoom(): JSX.Element {
  const { id = '' } = useParams();
  const transfer = useTransfer(id);
  if (!transfer.isSuccess) return <Unread error={transfer.error} what={`Reading ${id}`} />;
  return <Shown transfer={transfer.data} />;
}

const OUTCOME: Record<TransferDetail['state'], string> = {
  waiting: 'Waits in line',
  running: 'Running',
  stopping: 'Stopping',
  done: 'Done',
  failed: 'Failed; everything was put back',
  stopped: 'Stopped; everything was put back',
  undone: 'Done, and undone since',
};

function Shown({ transfer }: { readonly transfer: TransferDetail }): JSX.Element {
  const now = useNow(1000);
  const navigate = useNavigate();
  const cache = useQueryClient();
  const site = useSite(transfer.site);
  const kinds = new Map((site.data?.environments ?? []).map((one) => [one.path, one.kind]));
  const kind = kindOf(transfer.onto, kinds);
  const stop = useMutation({
    mutationFn: () => client.call('transferStop', { params: { id: transfer.id } }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['transfer', transfer.id] }),
  });
  const isRunning = ['waiting', 'running', 'stopping'].includes(transfer.state);
  const { share, rate, left } = measureProgress(transfer, now);
  const took =
    transfer.startedAt && transfer.endedAt
      ? (Date.parse(transfer.endedAt) - Date.parse(transfer.startedAt)) / 1000
      : undefined;
  useKeys([{ key: 'Escape', does: `Back to ${transfer.site}`, act: () => void navigate(`/sites/${transfer.site}`) }]);
  const numerals: readonly [string, string][] = isRunning
    ? [
        [share === undefined ? '–' : `${Math.round(share * 100)} %`, 'done'],
        [size(transfer.progress?.bytes ?? 0), 'moved'],
        [rate > 0 ? `${size(rate)}/s` : '–', 'rate'],
        [left === undefined ? '–' : duration(Math.max(1, left)), 'left'],
      ]
    : transfer.state === 'failed' || transfer.state === 'stopped'
      ? [[took === undefined ? '–' : duration(took), 'took']]
      : [
          [number(transfer.rows), transfer.rows === 1 ? 'row written' : 'rows written'],
          [number(transfer.files), transfer.files === 1 ? 'file written' : 'files written'],
          [size(transfer.bytes), 'moved'],
          [took === undefined ? '–' : duration(took), 'took'],
        ];
  return (
    <>
      <div className="crumb slab">
        <Link to="/">Fleet</Link>
        <i>/</i>
        <Link to={`/sites/${transfer.site}`}>{transfer.site}</Link>
        <i>/</i>
        <h1>{transfer.kind}</h1>
        <span className="mono qq cut">{transfer.id}</span>
        <span className="sp" />
        <span className="qq cut">
          {transfer.person}, {clock(transfer.createdAt)}
        </span>
      </div>
      <main className="transfer">
        <section className="slab top">
          <p className="sentence">
            <SentenceText pieces={transfer.sentence} />
          </p>
          <p className={`outcome ${transfer.state}`} role="status">
            <Tile
              kind={kind}
              state={isRunning ? 'working' : transfer.state === 'failed' ? 'failed' : 'in-step'}
              size={18}
              decorative
              progress={share ?? 0.4}
            />
            <b>
              {transfer.placeInLine !== null
                ? `Waits in line, ${transfer.placeInLine} before it`
                : OUTCOME[transfer.state]}
            </b>
            {transfer.endedAt && (
              <span className="qq">
                <Ago time={transfer.endedAt} suffix=" ago" />
              </span>
            )}
            {transfer.undoneBy && (
              <Link className="u" to={`/transfers/${transfer.undoneBy}`}>
                undone
              </Link>
            )}
            {transfer.undoOf && (
              <Link className="u" to={`/transfers/${transfer.undoOf}`}>
                what it takes back
              </Link>
            )}
            {transfer.request && (
              <Link className="u" to={`/requests/${transfer.request}`}>
                its change request
              </Link>
            )}
          </p>
          {transfer.urgent && (
            <p className="q">
              <b className="wn-text">Urgent</b>, past approval: {transfer.urgent}
            </p>
          )}
          {transfer.override && (
            <p className="q">
              <b className="wn-text">Outside its window</b>: {transfer.override}
            </p>
          )}
        </section>
        <section className="numerals slab" aria-label="In figures">
          {numerals.map(([value, name]) => (
            <span key={name} className="t">
              <span className="num">{value}</span>
              <span className="q">{name}</span>
            </span>
          ))}
          <span className="sp" />
          <span className="leads">
            {transfer.canStop && isRunning && (
              <button type="button" className="btn" disabled={stop.isPending} onClick={() => stop.mutate()}>
                Stop before the switch
              </button>
            )}
            {!isRunning && site.data && <TransferActs transfer={transfer} site={site.data} />}
            {transfer.canUndo && (
              <Link
                className="btn"
                to={`/sites/${transfer.site}/forecast?${new URLSearchParams({ undo: transfer.id, onto: transfer.onto })}`}
              >
                <Icon name="undo" /> Take it back
              </Link>
            )}
          </span>
        </section>
        {transfer.failure && (
          <section className="slab">
            <div className="failure" role="alert">
              <b>{transfer.kind} failed</b>
              <p>{transfer.failure.message}</p>
              <p className="q">{transfer.failure.next}</p>
            </div>
          </section>
        )}
        {stop.isError && (
          <section className="slab">
            <Failure error={stop.error} />
          </section>
        )}
        {isRunning && <Phases transfer={transfer} kind={kind} took={took} />}
        {transfer.proof.length > 0 && <Proof points={transfer.proof} kind={kind} />}
        {(transfer.items.length > 0 ||
          transfer.warnings.length > 0 ||
          transfer.remains.length > 0 ||
          transfer.log.length > 0 ||
          transfer.checks.some((check) => check.state !== 'passed')) && (
          <section className="slab after">
            {transfer.checks
              .filter((check) => check.state !== 'passed')
              .map((check) => (
                <p key={check.name + check.message} className={check.state === 'failed' ? 'stopper' : 'q noted'}>
                  <b>{check.name}</b> {check.message}
                </p>
              ))}
            {transfer.warnings.map((warning) => (
              <p key={warning} className="q noted">
                <Icon name="warn" /> {warning}
              </p>
            ))}
            {transfer.remains.map((remain) => (
              <p key={remain} className="q noted">
                <b>Stays:</b> {remain}
              </p>
            ))}
            {transfer.items.length > 0 && (
              <table>
                <caption className="sr-only">What was written</caption>
                <thead>
                  <tr>
                    <th>Kind</th>
                    <th>Title</th>
                    <th>Change</th>
                    <th>Fields</th>
                  </tr>
                </thead>
                <tbody>
                  {transfer.items.map((item) => (
                    <tr key={`${item.kind} ${item.title}`}>
                      <td className="q">{item.kind}</td>
                      <td>{item.title}</td>
                      <td className="q">{item.change}</td>
                      <td className="q">{item.detail}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            {transfer.log.map((line) => (
              <p key={line.at + line.text} className="mono logline">
                <span className="qq">{clock(line.at)}</span> {line.text}
              </p>
            ))}
          </section>
        )}
        {!isRunning && <Phases transfer={transfer} kind={kind} took={took} />}
      </main>
    </>
  );
}

/** What was found when the destination was read again: a list that can be handed to the client. */
function Proof({ points, kind }: { readonly points: TransferDetail['proof']; readonly kind: string }): JSX.Element {
  const held = points.filter((point) => point.state === 'passed').length;
  return (
    <section className={`slab proof ${kind}`} aria-label="Read again afterwards">
      <h2>
        Read again afterwards
        <span className="q">
          {held === points.length ? 'everything holds' : `${held} of ${points.length} points hold`}
        </span>
      </h2>
      <ul>
        {points.map((point) => (
          <li key={point.name + point.message} className={point.state}>
            <Icon name={point.state === 'passed' ? 'check' : 'warn'} />
            <span className="proof-name">{point.name}</span>
            <span>
              {point.message}
              {point.state !== 'passed' && point.remedy && <span className="q"> {point.remedy}</span>}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What it went through, step by step; one line once it has ended well. */
function Phases({
  transfer,
  kind,
  took,
}: {
  readonly transfer: TransferDetail;
  readonly kind: string;
  /** In seconds. */
  readonly took: number | undefined;
}): JSX.Element {
  const now = useNow(1000);
  const steps = (
    <>
      {transfer.steps.map((step) => (
        <div key={step.name} className={`phase ${kind} ${step.state}`}>
          <svg width="14" height="14" viewBox="0 0 16 16" aria-hidden="true">
            <path
              d="M1.5,1.5H14.5V14.5H1.5Z"
              fill={
                step.state === 'failed'
                  ? 'var(--danger)'
                  : step.state === 'done'
                    ? 'var(--ink2)'
                    : step.state === 'running'
                      ? 'var(--k)'
                      : 'var(--bed)'
              }
              className={step.state === 'running' ? 'pulse' : ''}
            />
          </svg>
          <span className="phase-name">{step.title}</span>
          <span className={`phase-course ${step.state}`} aria-hidden="true" />
          <span className="phase-detail q" title={step.detail ?? ''}>
            {step.detail ??
              (step.state === 'running' && transfer.progress
                ? `${number(transfer.progress.rows)} rows, ${number(transfer.progress.files)} files`
                : '')}
          </span>
          <span className="phase-time qq">
            {step.startedAt
              ? duration((Date.parse(step.endedAt ?? new Date(now).toISOString()) - Date.parse(step.startedAt)) / 1000)
              : ''}
          </span>
        </div>
      ))}
      {transfer.steps.length === 0 && <p className="q p">It has not begun yet.</p>}
    </>
  );
  if (transfer.state !== 'done' || took === undefined)
    return (
      <section className="slab phases" aria-label="Phases">
        {steps}
      </section>
    );
  return (
    <section className="slab phases" aria-label="Phases">
      <Disclosure>
        <DisclosureButton className="btn bare fold">
          <Icon name="down" /> {duration(took)} in {transfer.steps.length}{' '}
          {transfer.steps.length === 1 ? 'step' : 'steps'}
        </DisclosureButton>
        <DisclosurePanel>{steps}</DisclosurePanel>
      </Disclosure>
    </section>
  );
}
