import type { RequestAct, RequestDetail } from '@tessarion/contract';
import { momentWords } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { Link } from 'react-router';
import { Course } from '../../parts/course.js';
import { Icon } from '../../parts/icon.js';
import { Failure } from '../../parts/states.js';
import { TypeName } from '../../parts/type-name.js';
import { useDraft } from '../../parts/use-draft.js';
import { clock } from '../../parts/words.js';
import { useMe } from '../../session.js';
import { aboutOf } from './about-fields.js';
import { Claims } from './claims.js';
import { PreviewZone } from './preview.js';
import { useMoment } from './use-moment.js';
import type { Deeds } from './use-request.js';

const actOf = (request: RequestDetail, name: RequestAct['act']): RequestAct | undefined =>
  request.acts.find((one) => one.act === name);

/** What one may do to a request now, and why not. */
export function Acts({ request, deeds }: { readonly request: RequestDetail; readonly deeds: Deeds }): JSX.Element {
  const may = (name: RequestAct['act']): boolean => actOf(request, name)?.allowed === true;
  return (
    <section className="acts-zone slab" aria-label="What may be done">
      <p className="state-line">
        <Course state={request.state} />
        <span className="sp" />
        {request.transfer && <Link to={`/transfers/${request.transfer}`}>Transfer</Link>}
      </p>
      {request.because && <p className="because">{request.because}</p>}
      {request.deliverAt && <p className="q">Delivers {clock(request.deliverAt)}</p>}
      {request.deliverAt === null && request.wantedFor !== null && (
        <p className="q">
          Wanted {request.wantedFor === 'window' ? 'in the next window' : `for ${clock(request.wantedFor)}`}
          {request.wantedMoment && (
            <span className={request.wantedMoment.allowed || request.wantedFor === 'window' ? '' : 'wn-text'}>
              : {momentWords(request.wantedMoment, clock)}
            </span>
          )}
        </p>
      )}
      {request.revising && <p className="q pulse">Both ends are being looked at again</p>}
      <Claims request={request} deeds={deeds} />
      <PreviewZone request={request} />
      {deeds.isError && <Failure error={deeds.error} />}
      {may('review') && <VerdictForm request={request} deeds={deeds} />}
      {may('deliver') && <DeliverForm request={request} deeds={deeds} />}
      <div className="more-acts">
        {may('ask') && (
          <button type="button" className="btn main" onClick={() => deeds.mutate({ act: 'ask' })}>
            Ask for review
          </button>
        )}
        {may('unschedule') && (
          <button type="button" className="btn" onClick={() => deeds.mutate({ act: 'unschedule' })}>
            Take the time back
          </button>
        )}
        {may('revise') && (
          <button type="button" className="btn" onClick={() => deeds.mutate({ act: 'revise' })}>
            Look again
          </button>
        )}
        {may('undo') && request.transfer && (
          <Link
            className="btn"
            to={`/sites/${request.site}/forecast?undo=${request.transfer}&from=${request.onto}&onto=${request.onto}`}
          >
            <Icon name="undo" />
            Undo
          </Link>
        )}
      </div>
      {may('withdraw') && <Withdraw deeds={deeds} />}
    </section>
  );
}

function VerdictForm({ request, deeds }: { readonly request: RequestDetail; readonly deeds: Deeds }): JSX.Element {
  const [words, setWords] = useDraft('verdict');
  const say = (says: 'approve' | 'return'): void =>
    deeds.mutate(
      { act: 'verdict', body: { says, revision: request.revision, ...(words.trim() === '' ? {} : { words }) } },
      { onSuccess: () => setWords('') },
    );
  const unseen = request.items.filter((item) => !item.isSeen && item.outcome !== 'kept').length;
  return (
    <form className="verdict" onSubmit={(event) => event.preventDefault()}>
      <label>
        <span className="q">Your verdict on revision {request.revision}</span>
        <textarea
          className="ta"
          rows={2}
          placeholder="Words to go with it; a reason, to send it back"
          value={words}
          onChange={(event) => setWords(event.target.value)}
        />
      </label>
      <div className="two">
        <button type="button" className="btn main" disabled={deeds.isPending} onClick={() => say('approve')}>
          Approve {request.itemCount === 1 ? '1 item' : `${request.itemCount} items`}
        </button>
        <button
          type="button"
          className="btn"
          disabled={deeds.isPending || words.trim() === ''}
          onClick={() => say('return')}
        >
          Send back
        </button>
      </div>
      {unseen > 0 && (
        <p className="qq">{unseen === 1 ? '1 item is' : `${unseen} items are`} not marked as seen by you</p>
      )}
    </form>
  );
}

function DeliverForm({ request, deeds }: { readonly request: RequestDetail; readonly deeds: Deeds }): JSX.Element {
  const [typed, setTyped] = useState('');
  const wanted = aboutOf(request);
  const [when, setWhen] = useState<'now' | 'window' | 'time'>(wanted.wanted === 'any' ? 'now' : wanted.wanted);
  const [time, setTime] = useState(wanted.time);
  const [reason, setReason] = useState('');
  const isLive = request.onto.endsWith('/live');
  const me = useMe();
  const moment = useMoment(request.onto, when === 'time' ? time : undefined);
  const closed = when !== 'window' && moment?.allowed === false;
  const mayOverride = me.data?.permissions.includes('window.override') === true;
  const isReady =
    (!isLive || typed === request.onto) && (when !== 'time' || time !== '') && (!closed || reason.trim() !== '');
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!isReady || deeds.isPending) return;
    deeds.mutate({
      act: 'deliver',
      body: {
        when: when === 'time' ? new Date(time).toISOString() : when,
        ...(isLive ? { confirm: typed } : {}),
        ...(closed ? { override: reason } : {}),
      },
    });
  };
  const onto = request.onto.split('/')[1];
  const items = request.itemCount === 1 ? '1 item' : `${request.itemCount} items`;
  return (
    <form className="deliver" onSubmit={submit}>
      <label>
        <span className="q">Deliver</span>
        <select value={when} onChange={(event) => setWhen(event.target.value as typeof when)}>
          <option value="now">now</option>
          <option value="window">in the next window</option>
          <option value="time">at a time</option>
        </select>
      </label>
      {when === 'time' && (
        <label>
          <span className="q">Time, in your own zone</span>
          <input type="datetime-local" value={time} onChange={(event) => setTime(event.target.value)} />
        </label>
      )}
      {moment && (when === 'window' || closed) && (
        <p className={closed ? 'wn-text' : 'q'}>
          {when === 'time' ? 'Then' : 'Now'} {momentWords(moment, clock)}
        </p>
      )}
      {closed && mayOverride && (
        <label>
          <span className="q">Why it must go all the same; it stays marked</span>
          <input value={reason} onChange={(event) => setReason(event.target.value)} />
        </label>
      )}
      {isLive && <TypeName path={request.onto} typed={typed} type={setTyped} />}
      <button type="submit" className="btn main big" disabled={!isReady}>
        {when === 'now' ? `Write ${items} onto ${onto}` : `Have ${items} written onto ${onto}`}
      </button>
    </form>
  );
}

function Withdraw({ deeds }: { readonly deeds: Deeds }): JSX.Element {
  const [reason, setReason] = useState<string>();
  if (reason === undefined)
    return (
      <button type="button" className="bare-link" onClick={() => setReason('')}>
        Withdraw it
      </button>
    );
  return (
    <form
      className="verdict"
      onSubmit={(event) => {
        event.preventDefault();
        if (reason.trim() !== '') deeds.mutate({ act: 'withdraw', reason });
      }}
    >
      <label>
        <span className="q">Why it is given up; its items are free again</span>
        <input value={reason} onChange={(event) => setReason(event.target.value)} />
      </label>
      <div className="two">
        <button type="submit" className="btn danger" disabled={reason.trim() === ''}>
          Withdraw it
        </button>
        <button type="button" className="btn" onClick={() => setReason(undefined)}>
          Leave it
        </button>
      </div>
    </form>
  );
}
