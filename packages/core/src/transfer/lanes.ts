import { EnvironmentKind } from '../profile/schema.js';

/** What a transfer does. */
export type TransferKind =
  | 'clone'
  | 'preview'
  | 'push'
  | 'pull'
  | 'reset'
  | 'restore'
  | 'undo'
  | 'rename'
  | 'snapshot'
  | 'remove'
  | 'adopt'
  | 'leave';

/** An environment as one end of a transfer. */
export interface LaneEnd {
  readonly path: string;
  readonly site: string;
  readonly kind: EnvironmentKind;
  /** What it previews; such an environment is looked at, and nothing moves from or onto it. */
  readonly preview?: object | null;
}

/** Whether something may move, and if not why and what to do instead. */
export type LaneVerdict =
  | { readonly allowed: true }
  | { readonly allowed: false; readonly reason: string; readonly next: string };

/** Kinds as work goes up through them. */
export const KINDS_UPWARD: readonly EnvironmentKind[] = EnvironmentKind.options;

/** How many kinds one lies above another; less than nothing below it. */
const stepsAbove = (a: EnvironmentKind, b: EnvironmentKind): number =>
  KINDS_UPWARD.indexOf(a) - KINDS_UPWARD.indexOf(b);

/** Whether work goes up from the second kind to the first. */
export const isAbove = (a: EnvironmentKind, b: EnvironmentKind): boolean => stepsAbove(a, b) > 0;

/** Of two environments the path of the one further from live; between two of one kind the later by name. */
export function lowerOf(a: Pick<LaneEnd, 'path' | 'kind'>, b: Pick<LaneEnd, 'path' | 'kind'>): string {
  if (a.kind !== b.kind) return isAbove(b.kind, a.kind) ? a.path : b.path;
  return [a.path, b.path].sort()[1] as string;
}

/** Decides whether a push may go from one environment onto another: dev → staging → live, within one site. */
export function pushLane(from: LaneEnd, onto: LaneEnd): LaneVerdict {
  const shown = previewOf(from, onto);
  if (shown) return shown;
  if (from.path === onto.path)
    return refused(`${from.path} cannot be pushed onto itself.`, 'Name two different environments.');
  if (from.site !== onto.site)
    return refused(
      `${from.path} and ${onto.path} belong to different sites.`,
      `Choose an environment of ${from.site} as the destination.`,
    );
  if (!isAbove(onto.kind, from.kind)) {
    return refused(
      `A push goes upward, and ${onto.path} (${onto.kind}) does not lie above ${from.path} (${from.kind}).`,
      `To bring ${from.path}'s state into ${onto.path}, reset it: tessarion reset --from ${from.path} --onto ${onto.path}`,
    );
  }
  if (stepsAbove(onto.kind, from.kind) > 1) {
    return refused(
      `${from.kind} does not lead to ${onto.kind} directly.`,
      `Push onto a staging environment of ${from.site} first.`,
    );
  }
  return { allowed: true };
}

/** Decides whether live's or staging's news may be brought into a copy below it, within one site. */
export function pullLane(from: LaneEnd, onto: LaneEnd): LaneVerdict {
  const shown = previewOf(from, onto);
  if (shown) return shown;
  if (from.path === onto.path)
    return refused(`${from.path} cannot be brought into itself.`, 'Name two different environments.');
  if (from.site !== onto.site)
    return refused(
      `${from.path} and ${onto.path} belong to different sites.`,
      `Choose a copy of ${from.site} as the destination.`,
    );
  if (!isAbove(from.kind, onto.kind))
    return refused(
      `A pull goes downward, and ${onto.path} (${onto.kind}) does not lie below ${from.path} (${from.kind}).`,
      `To write ${from.path}'s work onto ${onto.path}, push it: tessarion push --from ${from.path} --onto ${onto.path}`,
    );
  return { allowed: true };
}

/** The lane between two environments: upward a push, downward a pull. */
export const mergeLane = (from: LaneEnd, onto: LaneEnd): LaneVerdict =>
  isAbove(from.kind, onto.kind) ? pullLane(from, onto) : pushLane(from, onto);

/** Whether what two environments changed may be compared: along the lanes, and between copies of one kind. */
export const compareLane = (a: LaneEnd, b: LaneEnd): LaneVerdict =>
  !previewOf(a, b) && a.site === b.site && a.path !== b.path && a.kind === b.kind && a.kind !== 'live'
    ? { allowed: true }
    : mergeLane(a, b);

/** Decides whether a copy may be made like its source again: within one site, downward or onto a copy of the same kind. */
export function resetLane(from: LaneEnd, onto: LaneEnd): LaneVerdict {
  const shown = previewOf(from, onto);
  if (shown) return shown;
  if (from.path === onto.path)
    return refused(`${from.path} cannot be reset from itself.`, 'Name two different environments.');
  if (from.site !== onto.site)
    return refused(
      `${from.path} and ${onto.path} belong to different sites; a reset would put one in the place of the other.`,
      `Make a copy of its own of it: tessarion env create ${onto.site}/NAME --from ${from.path}`,
    );
  if (onto.kind === 'live')
    return refused(
      `${onto.path} is live; a reset would overwrite it.`,
      `Push onto it instead: tessarion push --from ${from.path} --onto ${onto.path}`,
    );
  if (from.kind === 'dev')
    return refused(
      `A reset comes from live or staging, and ${from.path} is dev.`,
      'Name the live or a staging environment as the source.',
    );
  return { allowed: true };
}

const LANES = { push: pushLane, pull: pullLane, reset: resetLane };

/**
 * What the other end of an act usually is, where one of them was named: what its lane allows, of another kind. Who names
 * only where it goes means by a pull the next kind above, and by a reset the highest.
 *
 * @param side which of its ends `own` is
 */
export function usualEnds<T extends LaneEnd>(
  act: 'push' | 'pull' | 'reset',
  side: 'from' | 'onto',
  own: LaneEnd,
  all: readonly T[],
): T[] {
  const fitting = all.filter(
    (other) => other.kind !== own.kind && (side === 'from' ? LANES[act](own, other) : LANES[act](other, own)).allowed,
  );
  if (side === 'from' || act === 'push') return fitting;
  const steps = fitting.map((other) => stepsAbove(other.kind, own.kind));
  const wanted = act === 'pull' ? Math.min(...steps) : Math.max(...steps);
  return fitting.filter((other) => stepsAbove(other.kind, own.kind) === wanted);
}

function previewOf(...ends: readonly LaneEnd[]): LaneVerdict | undefined {
  const found = ends.find((one) => one.preview);
  return (
    found &&
    refused(
      `${found.path} is the preview of a change request: it is looked at, and nothing moves from or onto it.`,
      'Name the environment itself instead.',
    )
  );
}

const refused = (reason: string, next: string): LaneVerdict => ({ allowed: false, reason, next });
