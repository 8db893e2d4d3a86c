import type pg from 'pg';
import type { DatabaseLogin } from '../ports/shapes.js';
import { applicationName, connectTo, type SessionUse, settingsFor } from './connect.js';
import { quoteLiteral } from './describe.js';

/** A session that is borrowed and given back, whatever state it is in. */
export interface Session extends pg.Client {
  /** Ends what was begun in it; the next one who asks this database may have it. */
  giveBack(): Promise<void>;
}

/** How long a session may wait for its next use; each takes one of the connections that its login is allowed. */
const IDLE_MS = 10_000;
/** How many may wait for one login. */
const MOST_IDLE = 4;
/** How long the server may take to make a session ready, or to tidy it up, before it is ended instead. */
const PATIENCE_MS = 2000;

/** What `DISCARD ALL` does, in one round and also where a transaction was left open. */
const TIDY = `ROLLBACK; CLOSE ALL; RESET SESSION AUTHORIZATION; RESET ALL; DEALLOCATE ALL; UNLISTEN *;
  SELECT pg_catalog.pg_advisory_unlock_all(); DISCARD TEMP; DISCARD SEQUENCES;
  SET application_name = ${quoteLiteral(applicationName('waits'))}`;

/** Sessions that wait, by login; the one that was used last is at the end. */
const waiting = new Map<string, Kept[]>();

interface Kept {
  readonly session: Session;
  readonly timer: NodeJS.Timeout;
}

const nameOf = ({ host, port, database, user, password, by }: DatabaseLogin): string =>
  JSON.stringify([by?.called, host, port, database, user, password]);

/**
 * Lends a session on a site's database, as a new one would be: to connect, to prove who one is and to let the server read its
 * catalogs costs more than most of what is asked. One that does not answer any more is replaced.
 *
 * @throws {EngineError} as {@link connectTo}
 */
export async function borrowSession(login: DatabaseLogin, use: SessionUse, purpose: string): Promise<Session> {
  const name = nameOf(login);
  const settings = `${settingsFor(use)}; SET application_name = ${quoteLiteral(applicationName(purpose))}`;
  for (let kept = take(name); kept; kept = take(name)) {
    if (await does(kept, settings)) return kept;
    void end(kept);
  }
  const session = (await connectTo(login, use, purpose)) as Session;
  session.giveBack = () => giveBack(name, session);
  return session;
}

function take(name: string): Session | undefined {
  const others = waiting.get(name);
  const kept = others?.pop();
  if (others?.length === 0) waiting.delete(name);
  clearTimeout(kept?.timer);
  return kept?.session;
}

async function giveBack(name: string, session: Session): Promise<void> {
  const isTidy = await does(session, TIDY);
  const kept = waiting.get(name) ?? [];
  if (kept.length >= MOST_IDLE || !isTidy) return end(session);
  const timer = setTimeout(() => {
    const others = (waiting.get(name) ?? []).filter((one) => one.session !== session);
    if (others.length > 0) waiting.set(name, others);
    else waiting.delete(name);
    void end(session);
  }, IDLE_MS).unref();
  waiting.set(name, [...kept, { session, timer }]);
}

/**
 * Whether a session did what was asked, in time: one whose server is gone does not, nor does one that is busy still, such as
 * with rows that nobody fetched.
 */
async function does(session: Session, sql: string): Promise<boolean> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<false>((resolve) => {
    timer = setTimeout(resolve, PATIENCE_MS, false);
  });
  const done = session.query(sql).then(
    () => true,
    () => false,
  );
  try {
    return await Promise.race([done, late]);
  } finally {
    clearTimeout(timer);
  }
}

const end = (session: Session): Promise<void> => session.end().catch(() => undefined);
