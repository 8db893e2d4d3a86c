import type { RequestDetail } from '@tessarion/contract';
import { asksForApproval, wantedBy } from '@tessarion/core';
import type { JSX } from 'react';
import { Tick } from '../../parts/field.js';
import { Icon } from '../../parts/icon.js';
import { Ago } from '../../parts/words.js';
import { Guests } from './guests.js';
import type { Deeds } from './use-request.js';

const ACTS: Record<string, string> = {
  open: 'opened it',
  edit: 'changed what is said of it',
  ask: 'asked for review',
  'verdict approve': 'approved it',
  'verdict return': 'sent it back',
  return: '',
  approve: 'It is approved',
  lapse: 'The approval fell',
  revise: 'made a new revision',
  schedule: 'set the time',
  unschedule: 'took the time back',
  begin: 'delivered it',
  arrive: 'It is live',
  fail: 'The delivery came to nothing',
  block: 'It did not go',
  undo: 'It was taken back',
  withdraw: 'withdrew it',
  look: 'looked again',
  'hand-over': 'asked for something of it',
  yield: 'let others go first with',
  idle: 'It lay still',
};

const ruleWords = (rule: RequestDetail['rule']): string =>
  `Each item needs ${wantedBy(rule).join(' and ')}${rule.threadsBlock ? '; open threads block it' : ''}`;

/** Reviewers, steps, revisions and what happened. */
export function Aside({ request, deeds }: { readonly request: RequestDetail; readonly deeds: Deeds }): JSX.Element {
  const { rule } = request;
  return (
    <aside
      tabIndex={0}
      aria-label="More"
      className="flex-[1_0_auto] bg-slab px-16 pt-4 pb-16 max-wide:order-1 max-wide:col-1 max-wide:row-auto max-wide:overflow-visible"
    >
      <section>
        <h2 className="mt-12 mb-4 text-small text-ink3">Reviewers</h2>
        {request.reviewers.length === 0 && <p className="text-ink2">Nobody is named.</p>}
        <ul>
          {request.reviewers.map((one) => (
            <li className="flex flex-col border-b border-line py-4" key={one.person?.id ?? one.team}>
              <b>{one.person?.name ?? `Team ${one.team}`}</b>
              <span className={one.says === 'return' ? 'text-accent' : 'text-ink2'}>
                {one.says === null ? (
                  'has said nothing yet'
                ) : (
                  <>
                    <Icon name={one.says === 'approve' ? 'check' : 'undo'} className="inline align-[-2px]" />{' '}
                    {one.says === 'approve' ? 'approved' : 'sent it back'}
                    {!one.isCurrent && ', of a former revision'}
                  </>
                )}
              </span>
            </li>
          ))}
        </ul>
        <p className="mt-6 text-ink3">{asksForApproval(rule) ? ruleWords(rule) : 'This lane asks for no approval'}</p>
      </section>
      <Guests request={request} />
      {request.steps.length > 0 && (
        <section>
          <h2 className="mt-12 mb-4 text-small text-ink3">By hand</h2>
          <ul>
            {request.steps.map((step) => (
              <li className="flex flex-col border-b border-line py-4" key={step.id}>
                <Tick>
                  <input
                    type="checkbox"
                    checked={step.doneAt !== null}
                    onChange={(event) => deeds.mutate({ act: 'tick', step: step.id, done: event.target.checked })}
                  />
                  <span>
                    {step.text}
                    <span className="text-ink3">
                      {' '}
                      {step.doneAt === null ? (
                        `${step.phase} the delivery`
                      ) : (
                        <>
                          {step.doneBy}, <Ago time={step.doneAt} suffix=" ago" />
                        </>
                      )}
                    </span>
                  </span>
                </Tick>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section>
        <h2 className="mt-12 mb-4 text-small text-ink3">What happened</h2>
        <ol>
          {request.history
            .filter((one) => ACTS[one.act] !== '')
            .map((one, i) => (
              <li
                className="flex flex-row items-baseline justify-between gap-8 border-b border-line py-4"
                key={`${one.at} ${String(i)}`}
              >
                <span className="wrap-anywhere">
                  {one.person !== 'Tessarion' && <b>{one.person} </b>}
                  {ACTS[one.act] ?? one.act}
                  {one.words !== '' && one.act !== 'schedule' && <span className="text-ink2">: {one.words}</span>}
                </span>
                <span className="whitespace-nowrap text-ink3">
                  <Ago time={one.at} suffix=" ago" />
                </span>
              </li>
            ))}
        </ol>
      </section>
    </aside>
  );
}
