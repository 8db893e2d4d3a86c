import type { Person, RequestAct } from '@tessarion/contract';
import {
  type Actor,
  afterEvent,
  decide,
  isEditable,
  isOpenRequest,
  type Permission,
  type RequestEvent,
} from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';
import type { RequestRecord } from './requests.js';
import { destinationOf, hasCollisions, isReviewable, type standingOf } from './standing.js';

/** Who looks at a request. */
export interface Viewer {
  readonly person: Person;
  readonly actor: Actor;
}

const EVENTS: Record<Exclude<RequestAct['act'], 'review' | 'revise' | 'preview' | 'edit'>, RequestEvent> = {
  ask: 'ask',
  deliver: 'begin',
  schedule: 'schedule',
  unschedule: 'unschedule',
  withdraw: 'withdraw',
  undo: 'undo',
};

/** What a viewer may do to a request now, or why not. */
export async function actsOf(
  on: OnRecords,
  request: RequestRecord,
  { person, actor }: Viewer,
  standing: Awaited<ReturnType<typeof standingOf>>,
): Promise<RequestAct[]> {
  const thing = await destinationOf(on, request);
  const deliver: Permission = thing.kind === 'live' ? 'live.deliver' : 'copy.work';
  const isUnsettled = await hasCollisions(on, request);
  const may = (permission: Permission): string => {
    const decision = decide(actor, permission, thing);
    return decision.allowed ? '' : decision.words;
  };
  const notApproved = standing.isApproved ? '' : 'It is not approved as it is now.';
  const isOwn = request.author === person.id;
  const mayChange = (): string =>
    isOwn ? may('request.open') : may('site.manage') && 'It is a request of somebody else.';
  const inState = (act: keyof typeof EVENTS): string =>
    afterEvent(request.state, EVENTS[act]) ? '' : `It is ${request.state}.`;
  const said = (act: RequestAct['act'], ...reasons: string[]): RequestAct => {
    const because = reasons.find((one) => one !== '') ?? '';
    return { act, allowed: because === '', because };
  };
  return [
    said(
      'ask',
      inState('ask'),
      may('request.open'),
      isUnsettled ? 'Something in it collides, and is not settled.' : '',
    ),
    said(
      'review',
      isReviewable(request) ? '' : `It is ${request.state}.`,
      may('request.review'),
      standing.authors.has(person.id) ? 'It is your own work.' : '',
    ),
    said(
      'revise',
      isEditable(request.state) ? '' : `It is ${request.state}.`,
      may('request.open'),
      request.revising === null ? '' : 'It is being looked at again.',
    ),
    said('deliver', inState('deliver'), may(deliver), notApproved),
    said('schedule', inState('schedule'), may(deliver), notApproved),
    said('unschedule', inState('unschedule'), may(deliver)),
    said('withdraw', inState('withdraw'), mayChange()),
    said('edit', isEditable(request.state) ? '' : `It is ${request.state}.`, mayChange()),
    said('undo', inState('undo'), may(deliver) === '' ? '' : may('request.open')),
    said(
      'preview',
      isOpenRequest(request.state) && request.state !== 'delivering' ? '' : `It is ${request.state}.`,
      may('preview.make'),
      isUnsettled ? 'Something in it collides, and is not settled.' : '',
    ),
  ];
}
