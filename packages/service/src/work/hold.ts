import type { TransferContext } from './context.js';

/** How long a hold lasts at the gateway where nobody keeps it: longer than a worker is missed before another one goes on. */
const LEASE_MS = 8000;
const KEEP_EVERY_MS = 2000;
/** How long running requests are waited for. */
const DRAIN_MS = 2000;

const keeping = new WeakMap<TransferContext, NodeJS.Timeout>();

/** How long the hold of a transfer lasts where nobody keeps it. */
const leaseMs = ({ data }: TransferContext): number => data.leaseMs ?? LEASE_MS;

/**
 * Lets the front hold visitors back, for as long as this worker lives and the front allows.
 *
 * @param moreMs by what the hold may be longer than it takes to write
 * @returns for how long running requests were waited for
 */
export async function hold(context: TransferContext, path: string, moreMs = 0): Promise<number> {
  const { front } = context.installation;
  const longest = LEASE_MS + moreMs;
  const { lease, waitedMs } = await front.hold(path, longest, DRAIN_MS);
  // Lost with a loss of power, it ends by itself.
  await context.remember({ lease, leaseMs: longest }, 'soon');
  stopKeeping(context);
  const keep = async (): Promise<void> => {
    const { isHeld } = await front.keep(lease, longest);
    if (!isHeld) stopKeeping(context);
  };
  // A gateway that is away is asked again; whether it holds still is asked before anything can be seen.
  keeping.set(context, setInterval(() => void keep().catch(() => undefined), KEEP_EVERY_MS).unref());
  return waitedMs;
}

function stopKeeping(context: TransferContext): void {
  clearInterval(keeping.get(context));
  keeping.delete(context);
}

/** Holds visitors back once more where a hold has ended by itself: the front had enough of it, or has died. */
export async function mustBeHeld(context: TransferContext, path: string): Promise<void> {
  const { lease } = context.data;
  if (lease === undefined) return;
  const { front } = context.installation;
  const { isHeld } = await patiently(context, () => front.keep(lease, leaseMs(context)));
  if (isHeld) return;
  await context.say('The hold had ended by itself meanwhile: visitors are held once more.');
  const former = await front.release(lease);
  await context.remember({ heldMs: former.heldMs });
  await hold(context, path);
}

/** Asks a gateway that is away again, for as long as a hold can last: after that there is none. @throws {EngineError} */
async function patiently<T>(context: TransferContext, ask: () => Promise<T>): Promise<T> {
  const until = Date.now() + leaseMs(context);
  for (;;)
    try {
      return await ask();
    } catch (error) {
      if (Date.now() > until) throw error;
      context.installation.log.warn({ transfer: context.record.id, err: error }, 'the gateway is waited for');
      await new Promise((resolve) => setTimeout(resolve, 200));
    }
}

/** How visitors were held. */
export interface Held {
  /** The longest that one of them can have waited; null where the front that knew it died. */
  readonly heldMs: number | null;
  /** It had ended by itself before it was released. */
  readonly isOver: boolean;
}

/**
 * Ends the hold, which may be one that a dead worker asked for.
 *
 * @returns undefined where there was none
 */
export async function release(context: TransferContext): Promise<Held | undefined> {
  stopKeeping(context);
  const { lease, heldMs: formerMs } = context.data;
  if (lease === undefined) return undefined;
  const { heldMs, isOver } = await patiently(context, () => context.installation.front.release(lease)).catch(
    (): Held => ({ heldMs: null, isOver: true }),
  );
  const longest = heldMs === null ? null : Math.max(heldMs, formerMs ?? 0);
  await context.remember({ lease: undefined, heldMs: longest });
  return { heldMs: longest, isOver };
}

/** For the record. */
export function heldWords(context: TransferContext, held: Held | undefined): string | undefined {
  if (held === undefined) return undefined;
  if (context.data.notHeld === true)
    return 'its visitors do not come through the gateway, as far as is known: they were not held';
  if (held.heldMs === null) return 'the gateway died meanwhile, and with it the hold';
  return `visitors waited at most ${held.heldMs} ms${held.isOver ? '; the hold had ended by itself before everything was there' : ''}`;
}
