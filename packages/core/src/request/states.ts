/** States of a change request, as the glossary names them. */
export const REQUEST_STATES = [
  'draft',
  'in-review',
  'returned',
  'approved',
  'scheduled',
  'delivering',
  'blocked',
  'delivered',
  'undone',
  'withdrawn',
] as const;
/** One of {@link REQUEST_STATES}. */
export type RequestState = (typeof REQUEST_STATES)[number];

/**
 * What happens to a change request.
 *
 * `ask`: the author asks for review. `return`: a reviewer sends it back. `approve`: everything in it is approved.
 * `lapse`: what was approved is not what would be written any more. `schedule`, `unschedule`: a time is set, taken
 * back. `begin`: the delivery starts. `arrive`: it is done. `fail`: it ended without having written anything.
 * `block`: its time came and something was in the way. `undo`: what it wrote was taken back. `withdraw`: given up.
 */
export type RequestEvent =
  | 'ask'
  | 'return'
  | 'approve'
  | 'lapse'
  | 'schedule'
  | 'unschedule'
  | 'begin'
  | 'arrive'
  | 'fail'
  | 'block'
  | 'undo'
  | 'withdraw';

/** The state machine: what may happen in a state, and where it leads. Everything else is refused. */
export const REQUEST_MOVES: Readonly<Record<RequestState, Readonly<Partial<Record<RequestEvent, RequestState>>>>> = {
  draft: { ask: 'in-review', withdraw: 'withdrawn' },
  'in-review': { approve: 'approved', return: 'returned', withdraw: 'withdrawn' },
  returned: { ask: 'in-review', withdraw: 'withdrawn' },
  approved: {
    begin: 'delivering',
    schedule: 'scheduled',
    lapse: 'in-review',
    return: 'returned',
    withdraw: 'withdrawn',
  },
  scheduled: {
    begin: 'delivering',
    unschedule: 'approved',
    block: 'blocked',
    lapse: 'in-review',
    return: 'returned',
    withdraw: 'withdrawn',
  },
  delivering: { arrive: 'delivered', fail: 'blocked' },
  // What is approved still may be tried again, such as in the next window.
  blocked: {
    ask: 'in-review',
    approve: 'approved',
    begin: 'delivering',
    schedule: 'scheduled',
    return: 'returned',
    withdraw: 'withdrawn',
  },
  delivered: { undo: 'undone' },
  undone: {},
  withdrawn: {},
};

/** Where an event leads; undefined where it may not happen. */
export const afterEvent = (state: RequestState, event: RequestEvent): RequestState | undefined =>
  REQUEST_MOVES[state][event];

/** An open request holds claims on its items. */
export const isOpenRequest = (state: RequestState): boolean =>
  state !== 'delivered' && state !== 'undone' && state !== 'withdrawn';

/** States of which the items may still be chosen anew. */
export const isEditable = (state: RequestState): boolean => isOpenRequest(state) && state !== 'delivering';
