import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { TransferDetail } from '@tessarion/contract';
import type { JSX } from 'react';
import { useNavigate, useParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Button, ButtonLink, buttonLook, TextLink } from '../parts/button.js';
import { Icon } from '../parts/icon.js';
import { clock } from '../parts/moments.js';
import { kindOf, measureProgress } from '../parts/progress.js';
import { Crumb } from '../parts/room.js';
import { Failure, Unread } from '../parts/states.js';
import { Tile } from '../parts/tile.js';
import { Ago, duration, number, SentenceText, size, useNow } from '../parts/words.js';
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
      <Crumb
        way={[
          ['Fleet', '/'],
          [transfer.site, `/sites/${transfer.site}`],
        ]}
        here={transfer.kind}
      >
        <span className="truncate mono text-ink3 max-desk:hidden">{transfer.id}</span>
        <span className="flex-1 max-desk:hidden" />
        <span className="truncate text-ink3 max-desk:hidden">
          {transfer.person}, {clock(transfer.createdAt)}
        </span>
      </Crumb>
      <main className="flex min-h-0 flex-1 flex-col gap-2 overflow-auto">
        <section className="bg-slab px-16 pt-14 pb-12">
          <p className="max-w-900 text-sentence text-pretty max-desk:text-[17px]/24">
            <SentenceText pieces={transfer.sentence} />
          </p>
          <p className="mt-8 flex items-center gap-8" role="status">
            <Tile
              kind={kind}
              state={isRunning ? 'working' : transfer.state === 'failed' ? 'failed' : 'in-step'}
              size={18}
              decorative
              progress={share ?? 0.4}
            />
            <b className={transfer.state === 'failed' ? 'text-danger' : ''}>
              {transfer.placeInLine !== null
                ? `Waits in line, ${transfer.placeInLine} before it`
                : OUTCOME[transfer.state]}
            </b>
            {transfer.endedAt && (
              <span className="text-ink3">
                <Ago time={transfer.endedAt} suffix=" ago" />
              </span>
            )}
            {transfer.undoneBy && <TextLink to={`/transfers/${transfer.undoneBy}`}>undone</TextLink>}
            {transfer.undoOf && <TextLink to={`/transfers/${transfer.undoOf}`}>what it takes back</TextLink>}
            {transfer.request && <TextLink to={`/requests/${transfer.request}`}>its change request</TextLink>}
          </p>
          {transfer.urgent && (
            <p className="text-ink2">
              <b className="text-warn">Urgent</b>, past approval: {transfer.urgent}
            </p>
          )}
          {transfer.override && (
            <p className="text-ink2">
              <b className="text-warn">Outside its window</b>: {transfer.override}
            </p>
          )}
        </section>
        <section
          className="flex flex-wrap items-center gap-x-32 gap-y-8 bg-slab px-16 py-4 max-desk:gap-x-20 max-desk:gap-y-4 max-desk:px-12"
          aria-label="In figures"
        >
          {numerals.map(([value, name]) => (
            <span key={name} className="flex min-w-0 items-baseline gap-8 py-8 max-desk:flex-wrap">
              <span className="text-numeral font-stretch-112% max-desk:text-[17px]/22">{value}</span>
              <span className="text-ink2 max-desk:basis-full max-desk:text-micro/14">{name}</span>
            </span>
          ))}
          <span className="flex-1 max-desk:hidden" />
          <span className="flex flex-wrap gap-8">
            {transfer.canStop && isRunning && (
              <Button
                className="max-desk:w-full max-desk:justify-center"
                disabled={stop.isPending}
                onClick={() => stop.mutate()}
              >
                Stop before the switch
              </Button>
            )}
            {!isRunning && site.data && <TransferActs transfer={transfer} site={site.data} />}
            {transfer.canUndo && (
              <ButtonLink
                className="max-desk:w-full max-desk:justify-center"
                to={`/sites/${transfer.site}/forecast?${new URLSearchParams({ undo: transfer.id, onto: transfer.onto })}`}
              >
                <Icon name="undo" /> Take it back
              </ButtonLink>
            )}
          </span>
        </section>
        {transfer.failure && (
          <section className="bg-slab">
            <div className="mx-16 my-12 border-l-3 border-danger bg-danger-tint px-14 py-10" role="alert">
              <b>{transfer.kind} failed</b>
              <p className="mt-2 mb-6 wrap-anywhere">{transfer.failure.message}</p>
              <p className="mt-2 mb-6 wrap-anywhere text-ink2">{transfer.failure.next}</p>
            </div>
          </section>
        )}
        {stop.isError && (
          <section className="bg-slab">
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
          <section className="bg-slab">
            {transfer.checks
              .filter((check) => check.state !== 'passed')
              .map((check) => (
                <p
                  key={check.name + check.message}
                  className={check.state === 'failed' ? 'border-danger border-l-3 bg-danger-tint px-16 py-8' : NOTED}
                >
                  <b>{check.name}</b> {check.message}
                </p>
              ))}
            {transfer.warnings.map((warning) => (
              <p key={warning} className={NOTED}>
                <Icon name="warn" /> {warning}
              </p>
            ))}
            {transfer.remains.map((remain) => (
              <p key={remain} className={NOTED}>
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
                      <td className="text-ink2">{item.kind}</td>
                      <td>{item.title}</td>
                      <td className="text-ink2">{item.change}</td>
                      <td className="text-ink2">{item.detail}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            {transfer.log.map((line) => (
              <p key={line.at + line.text} className="px-16 py-2 mono wrap-anywhere">
                <span className="text-ink3">{clock(line.at)}</span> {line.text}
              </p>
            ))}
          </section>
        )}
        {!isRunning && <Phases transfer={transfer} kind={kind} took={took} />}
      </main>
    </>
  );
}

/** Something to know of a transfer. */
const NOTED = 'flex items-baseline gap-8 border-b border-line px-16 py-6 text-ink2';

/** How far a step has come, in laid tiles. */
const COURSE: Readonly<Record<string, string>> = {
  done: 'bg-ink2',
  running: 'bg-linear-to-r from-kind from-40% to-kind-tint to-40%',
  failed: 'bg-danger',
};

/** What was found when the destination was read again: a list that can be handed to the client. */
function Proof({ points, kind }: { readonly points: TransferDetail['proof']; readonly kind: string }): JSX.Element {
  const held = points.filter((point) => point.state === 'passed').length;
  return (
    <section className={`bg-slab ${kind}`} aria-label="Read again afterwards">
      <h2 className="flex items-baseline gap-12 px-16 pt-12 pb-8 text-[14px]/20 max-desk:px-12">
        Read again afterwards
        <span className="font-normal text-ink2">
          {held === points.length ? 'everything holds' : `${held} of ${points.length} points hold`}
        </span>
      </h2>
      <ul className="pb-8">
        {points.map((point) => (
          <li
            key={point.name + point.message}
            className="grid grid-cols-[14px_128px_minmax(0,1fr)] items-baseline gap-12 px-16 py-4 wrap-anywhere max-desk:grid-cols-[14px_minmax(0,1fr)] max-desk:gap-y-0 max-desk:px-12"
          >
            <Icon
              name={point.state === 'passed' ? 'check' : 'warn'}
              className={`self-center ${point.state === 'passed' ? 'text-ink3' : 'text-danger'}`}
            />
            <span className="text-ink2">{point.name}</span>
            <span className="max-desk:col-2">
              {point.message}
              {point.state !== 'passed' && point.remedy && (
                <span className="font-normal text-ink2"> {point.remedy}</span>
              )}
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
        <div
          key={step.name}
          data-step={step.state}
          className={`grid min-h-32 grid-cols-[14px_240px_245px_minmax(0,1fr)_64px] items-center gap-12 border-b border-line px-16 max-desk:grid-cols-[14px_minmax(0,1fr)_auto] max-desk:gap-y-0 max-desk:px-12 max-desk:py-6 ${kind}`}
        >
          <svg className="block" width="14" height="14" viewBox="0 0 16 16" aria-hidden="true">
            <path
              d="M1.5,1.5H14.5V14.5H1.5Z"
              fill={
                step.state === 'failed'
                  ? 'var(--color-danger)'
                  : step.state === 'done'
                    ? 'var(--color-ink2)'
                    : step.state === 'running'
                      ? 'var(--color-kind)'
                      : 'var(--color-bed)'
              }
              className={step.state === 'running' ? 'animate-working motion-reduce:animate-none' : ''}
            />
          </svg>
          <span className={step.state === 'running' ? 'font-semibold' : step.state === 'coming' ? 'text-ink3' : ''}>
            {step.title}
          </span>
          <span className={`laid-rows w-239 max-desk:hidden ${COURSE[step.state] ?? 'bg-bed'}`} aria-hidden="true" />
          <span
            className="truncate text-small text-ink2 max-desk:col-[2/-1] max-desk:row-2 max-desk:whitespace-normal"
            title={step.detail ?? ''}
          >
            {step.detail ??
              (step.state === 'running' && transfer.progress
                ? `${number(transfer.progress.rows)} rows, ${number(transfer.progress.files)} files`
                : '')}
          </span>
          <span className="text-right text-small text-ink3">
            {step.startedAt
              ? duration((Date.parse(step.endedAt ?? new Date(now).toISOString()) - Date.parse(step.startedAt)) / 1000)
              : ''}
          </span>
        </div>
      ))}
      {transfer.steps.length === 0 && <p className="px-16 py-12 text-ink2 max-desk:px-12">It has not begun yet.</p>}
    </>
  );
  if (transfer.state !== 'done' || took === undefined)
    return (
      <section className="bg-slab" aria-label="Phases">
        {steps}
      </section>
    );
  return (
    <section className="flex-1 bg-slab" aria-label="Phases">
      <Disclosure>
        <DisclosureButton className={`${buttonLook({ bare: true })} group mx-8 my-6`}>
          <Icon name="down" className="group-data-open:rotate-180" /> {duration(took)} in {transfer.steps.length}{' '}
          {transfer.steps.length === 1 ? 'step' : 'steps'}
        </DisclosureButton>
        <DisclosurePanel>{steps}</DisclosurePanel>
      </Disclosure>
    </section>
  );
}
