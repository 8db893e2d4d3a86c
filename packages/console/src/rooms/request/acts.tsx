import type { RequestAct, RequestDetail } from '@tessarion/contract';
import { momentWords } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { Link } from 'react-router';
import { Button, ButtonLink, TextButton } from '../../parts/button.js';
import { Course } from '../../parts/course.js';
import { Icon } from '../../parts/icon.js';
import { clock } from '../../parts/moments.js';
import { Failure } from '../../parts/states.js';
import { TypeName } from '../../parts/type-name.js';
import { useDraft } from '../../parts/use-draft.js';
import { useEnter } from '../../parts/use-enter.js';
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
    <section
      className="flex flex-col gap-8 bg-slab px-16 py-12 max-wide:col-1 max-wide:row-auto max-wide:overflow-visible max-desk:order-1"
      aria-label="What may be done"
    >
      <p className="flex items-center font-semibold" data-state={request.state}>
        <Course state={request.state} />
        <span className="flex-1 max-desk:hidden" />
        {request.transfer && (
          <Link className="font-normal" to={`/transfers/${request.transfer}`}>
            Transfer
          </Link>
        )}
      </p>
      {request.because && <p className="border-l-3 border-accent pl-8 wrap-anywhere">{request.because}</p>}
      {request.deliverAt && <p className="text-ink2">Delivers {clock(request.deliverAt)}</p>}
      {request.deliverAt === null && request.wantedFor !== null && (
        <p className="text-ink2">
          Wanted {request.wantedFor === 'window' ? 'in the next window' : `for ${clock(request.wantedFor)}`}
          {request.wantedMoment && (
            <span
              className={
                request.wantedMoment.allowed || request.wantedFor === 'window' ? '' : 'font-semibold text-warn'
              }
            >
              : {momentWords(request.wantedMoment, clock)}
            </span>
          )}
        </p>
      )}
      {request.revising && (
        <p className="animate-working text-ink2 motion-reduce:animate-none">Both ends are being looked at again</p>
      )}
      <Claims request={request} deeds={deeds} />
      <PreviewZone request={request} />
      {deeds.isError && <Failure error={deeds.error} />}
      {may('review') && <VerdictForm request={request} deeds={deeds} />}
      {may('deliver') && <DeliverForm request={request} deeds={deeds} />}
      {(request.state === 'returned' || request.state === 'draft') && request.undoes === null && (
        <OpenSource path={request.from} />
      )}
      <div className="flex flex-wrap gap-8 empty:hidden">
        {may('ask') && (
          <Button main onClick={() => deeds.mutate({ act: 'ask' })}>
            Ask for review
          </Button>
        )}
        {may('unschedule') && <Button onClick={() => deeds.mutate({ act: 'unschedule' })}>Take the time back</Button>}
        {may('revise') && <Button onClick={() => deeds.mutate({ act: 'revise' })}>Look at both sides again</Button>}
        {may('undo') && request.transfer && (
          <ButtonLink
            to={`/sites/${request.site}/forecast?undo=${request.transfer}&from=${request.onto}&onto=${request.onto}`}
          >
            <Icon name="undo" />
            Undo
          </ButtonLink>
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
    <form
      className="flex flex-col gap-8 max-desk:fixed max-desk:inset-x-0 max-desk:bottom-0 max-desk:z-5 max-desk:bg-slab max-desk:px-12 max-desk:py-8 max-desk:shadow-[0_-2px_0_var(--color-grout)]"
      onSubmit={(event) => event.preventDefault()}
    >
      <label className="flex flex-col gap-4">
        <span className="text-ink2">Your verdict on revision {request.revision}</span>
        <textarea
          data-verdict
          rows={2}
          placeholder="Words to go with it; a reason, to send it back"
          value={words}
          onChange={(event) => setWords(event.target.value)}
        />
      </label>
      <div className="grid grid-cols-[1fr_auto] gap-8">
        <Button
          main={unseen === 0}
          className="justify-center"
          disabled={deeds.isPending}
          data-main
          onClick={() => say('approve')}
        >
          Approve {request.itemCount === 1 ? '1 item' : `${request.itemCount} items`}
        </Button>
        <Button
          className="justify-center"
          disabled={deeds.isPending || words.trim() === ''}
          onClick={() => say('return')}
        >
          Send back
        </Button>
      </div>
      {unseen > 0 && (
        <p className="text-ink3">{unseen === 1 ? '1 item is' : `${unseen} items are`} not marked as seen by you</p>
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
    <form className="flex flex-col gap-8" onSubmit={submit}>
      <label className="flex flex-col gap-4">
        <span className="text-ink2">Deliver</span>
        <select value={when} onChange={(event) => setWhen(event.target.value as typeof when)}>
          <option value="now">now</option>
          <option value="window">in the next window</option>
          <option value="time">at a time</option>
        </select>
      </label>
      {when === 'time' && (
        <label className="flex flex-col gap-4">
          <span className="text-ink2">Time, in your own zone</span>
          <input type="datetime-local" value={time} onChange={(event) => setTime(event.target.value)} />
        </label>
      )}
      {moment && (when === 'window' || closed) && (
        <p className={closed ? 'font-semibold text-warn' : 'text-ink2'}>
          {when === 'time' ? 'Then' : 'Now'} {momentWords(moment, clock)}
        </p>
      )}
      {closed && mayOverride && (
        <label className="flex flex-col gap-4">
          <span className="text-ink2">Why it must go all the same; it stays marked</span>
          <input value={reason} onChange={(event) => setReason(event.target.value)} />
        </label>
      )}
      {isLive && <TypeName path={request.onto} typed={typed} type={setTyped} />}
      <Button type="submit" main wide disabled={!isReady}>
        {when === 'now' ? `Write ${items} onto ${onto}` : `Have ${items} written onto ${onto}`}
      </Button>
    </form>
  );
}

function Withdraw({ deeds }: { readonly deeds: Deeds }): JSX.Element {
  const [reason, setReason] = useState<string>();
  if (reason === undefined) return <TextButton onClick={() => setReason('')}>Withdraw this change</TextButton>;
  return (
    <form
      className="flex flex-col gap-8"
      onSubmit={(event) => {
        event.preventDefault();
        if (reason.trim() !== '') deeds.mutate({ act: 'withdraw', reason });
      }}
    >
      <label className="flex flex-col gap-4">
        <span className="text-ink2">Why it is given up; its items are free again</span>
        <input value={reason} onChange={(event) => setReason(event.target.value)} />
      </label>
      <div className="grid grid-cols-[1fr_auto] gap-8">
        <Button type="submit" danger className="justify-center" disabled={reason.trim() === ''}>
          Withdraw this change
        </Button>
        <Button className="justify-center" onClick={() => setReason(undefined)}>
          Leave it
        </Button>
      </div>
    </form>
  );
}

/** The way to where it is worked on. */
function OpenSource({ path }: { readonly path: string }): JSX.Element {
  const [site = '', name = ''] = path.split('/');
  const { enter, error } = useEnter({ site, name });
  return (
    <>
      {error !== undefined && <Failure error={error} />}
      <Button className="self-start" onClick={enter}>
        <Icon name="open" /> Open {name}
      </Button>
    </>
  );
}
