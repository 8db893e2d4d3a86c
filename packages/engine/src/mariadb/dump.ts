import { EngineError } from '../ports/errors.js';
import type { Session } from './connect.js';
import type { Described } from './describe.js';
import { quoteName, quoteText } from './sql.js';

/** Stands between statements, as the client program of MariaDB takes it after `DELIMITER ;;`. */
const BETWEEN = '\n;;\n';
const HEAD = `DELIMITER ;;\n`;

/** Whoever made something is no login of the copy's: what it makes belongs to its own. */
const withoutDefiner = (sql: string): string => sql.replace(/\sDEFINER=(?:`(?:[^`]|``)*`@`(?:[^`]|``)*`|\S+)/i, '');

/** A table as it is made, without where its counter stands. */
const tableSql = (sql: string): string => sql.replace(/ AUTO_INCREMENT=\d+/, '');

type Cells = (string | null)[];

async function made(session: Session, what: string, name: string, column: number): Promise<Cells & { sql: string }> {
  const [row] = await session.texts(`SHOW CREATE ${what} ${quoteName(name)}`);
  const sql = row?.[column];
  if (sql == null)
    throw new EngineError(
      'schema-unsupported',
      `The login may not see how ${name} is made.`,
      `Let it own ${name}, or grant it SHOW CREATE ROUTINE.`,
    );
  return Object.assign([...(row as Cells)], { sql: withoutDefiner(sql) });
}

/** What a trigger or routine was made under, which its words mean something by (MariaDB, *SHOW CREATE TRIGGER*). */
const under = (mode: string | null | undefined): string => `SET SESSION sql_mode=${quoteText(mode ?? '')}`;

async function namesOf(session: Session, sql: string): Promise<string[]> {
  return (await session.texts(sql)).map(([name]) => name as string);
}

/** The schema in SQL: tables with their keys and references, or what comes after the rows. */
export async function dumpSchema(
  session: Session,
  { schema }: Described,
  section: 'before' | 'after',
): Promise<Buffer> {
  const statements: string[] = [];
  if (section === 'before')
    for (const { name } of schema.tables) statements.push(tableSql((await made(session, 'TABLE', name, 1)).sql));
  else
    statements.push(
      ...(await routines(session)),
      ...(await views(session)),
      ...(await triggers(session)),
      ...(await events(session)),
    );
  const holds = statements.find((one) => one.includes(BETWEEN));
  if (holds !== undefined)
    throw new EngineError('schema-unsupported', 'A definition holds a line of two semicolons.', 'Write it without.');
  return Buffer.from(statements.length === 0 ? '' : HEAD + statements.map((one) => one + BETWEEN).join(''));
}

/** The statements of what {@link dumpSchema} wrote. */
export const statementsIn = (sql: string): string[] =>
  sql
    .slice(sql.startsWith(HEAD) ? HEAD.length : 0)
    .split(BETWEEN)
    .filter((one) => one.trim() !== '');

async function routines(session: Session): Promise<string[]> {
  const all: string[] = [];
  for (const kind of ['FUNCTION', 'PROCEDURE'] as const)
    for (const name of await namesOf(
      session,
      `SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = '${kind}' ORDER BY 1`,
    )) {
      const one = await made(session, kind, name, 2);
      all.push(under(one[1]), one.sql);
    }
  return all;
}

/** Views in an order in which each finds those that it is made of. */
async function views(session: Session): Promise<string[]> {
  const names = await namesOf(
    session,
    'SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = DATABASE() ORDER BY 1',
  );
  const made_ = new Map<string, string>();
  for (const name of names) made_.set(name, (await made(session, 'VIEW', name, 1)).sql);
  const done = new Set<string>();
  const all: string[] = [];
  const add = (name: string): void => {
    if (done.has(name)) return;
    done.add(name);
    const sql = made_.get(name) as string;
    for (const other of names) if (other !== name && sql.includes(quoteName(other))) add(other);
    all.push(sql);
  };
  names.forEach(add);
  return all;
}

async function triggers(session: Session): Promise<string[]> {
  const all: string[] = [];
  for (const name of await namesOf(
    session,
    'SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE() ORDER BY EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER',
  )) {
    const one = await made(session, 'TRIGGER', name, 2);
    all.push(under(one[1]), one.sql);
  }
  return all;
}

/** Events do nothing in a copy until somebody lets them. */
async function events(session: Session): Promise<string[]> {
  const all: string[] = [];
  for (const name of await namesOf(
    session,
    'SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE() ORDER BY 1',
  )) {
    const one = await made(session, 'EVENT', name, 3);
    all.push(under(one[1]), one.sql.replace(/ (?:ENABLE|DISABLE ON SLAVE|DISABLE)(?= (?:COMMENT|DO) )/, ' DISABLE'));
  }
  return all;
}
