import type { Location } from '@tessarion/core';
import type { Holders } from './holders.js';
import type { Holder } from './pass.js';

/** What a front serves at one host name. */
export interface Route {
  readonly host: string;
  readonly environment: string;
  readonly kind: 'dev' | 'staging' | 'live';
  readonly upstream: { readonly host: string; readonly port: number };
  readonly gate: { readonly user: string; readonly password: string } | null;
  readonly refreshedAt: string | null;
  readonly console: string;
}

/** All that a front serves, and to whom. */
export interface Published {
  readonly routes: readonly Route[];
  /** Who may pass gates, and where. */
  readonly holders: Holders;
}

/** An answer as visitors get it. */
export interface Visited {
  readonly headers: NodeJS.Dict<string | string[]>;
  readonly body: string;
  /** Why there is none. */
  readonly error?: string;
}

/**
 * What stands before environments: it serves their addresses, keeps the gates of copies, marks their pages, and holds visitors
 * back while what they see changes. Whoever asks does not know of which kind it is, but by {@link can}.
 *
 * Where it cannot be reached, an {@link EngineError} `server-unreachable` is thrown.
 */
export interface Front {
  /** What a forecast names where a front cannot: visitors are held, and counted. */
  readonly can: { readonly hold: boolean; readonly count: boolean };
  /**
   * Lets something be served from now on, in place of what was. A front that cannot be reached goes on by what it knew, and takes
   * this up once it is there again.
   */
  publish(published: Published): Promise<void>;
  /** Whether it serves live environments now; what serves copies may come up later. */
  isReady(): Promise<boolean>;
  /** Admits no more requests to an environment, and waits until those running have ended, at most `drainMs`. */
  hold(environment: string, leaseMs: number, drainMs: number): Promise<{ lease: string; waitedMs: number }>;
  /** Lets a hold last so much longer from now. @returns whether it lasts still */
  keep(lease: string, leaseMs: number): Promise<{ isHeld: boolean }>;
  /**
   * Lets requests through again. A lease that ended by itself is no error.
   *
   * @returns how long it was held, null where the front does not know; and whether it had ended by itself
   */
  release(lease: string): Promise<{ heldMs: number | null; isOver: boolean }>;
  /** Requests by environment and hour (such as `2026-11-30T18`) since they were last taken; they are counted once. */
  takeTraffic(): Promise<Record<string, Record<string, number>>>;
  /** Where a copy answers that gets a host name of its own. @param path as in the address that it is a copy of */
  addressOf(host: string, path: string): Location;
  /** Asks for a page as visitors do, also where its name leads to this front for nobody yet. */
  visit(url: string): Promise<Visited>;
  /** Whether who calls an address comes through this front; undefined where it does not answer. */
  standsBefore(url: string): Promise<boolean | undefined>;
  /**
   * An address below another one that lets somebody pass an environment's gate, once and soon.
   *
   * @param stays for how many seconds the gate stays open after that; a day's work where it does not say
   */
  entry(url: string, environment: string, holder: Holder, now: Date, stays?: number): string;
}
