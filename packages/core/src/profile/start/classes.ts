import type { DataClass } from '../schema.js';
import type { Suggestion, TableFacts } from './facts.js';
import { wordsOf } from './names.js';

type Decided = Exclude<DataClass, 'unclassified'>;

/** Something that speaks for a class, and how much: 0 nothing, 1 proof. */
interface Evidence {
  readonly of: Decided;
  readonly weight: number;
  readonly because: string;
}

/** Words in a table's name, and what they speak for. */
const NAMES: readonly (readonly [Decided, number, readonly string[]])[] = [
  [
    'collected',
    0.75,
    'order purchase customer booking reservation comment review inquiry enquiry subscriber subscription signup registration cart basket checkout payment invoice vote rating feedback appointment ticket visitor guest submission wishlist donation refund shipment'.split(
      ' ',
    ),
  ],
  [
    'authored',
    0.75,
    'page post article menu navigation product category tag template block banner slide gallery exhibition faq widget layout theme translation redirect notice section variant picture attachment collection recipe venue taxonomy term snippet'.split(
      ' ',
    ),
  ],
  ['local', 0.8, 'session nonce lock device'.split(' ')],
  ['local', 0.75, 'job queue cron scheduler worker'.split(' ')],
  ['derived', 0.85, 'cache tmp temp sitemap'.split(' ')],
  ['authored', 0.7, 'editor admin staff role permission'.split(' ')],
  ['local', 0.5, 'log audit token'.split(' ')],
  ['authored', 0.4, 'option setting config configuration preference'.split(' ')],
  ['collected', 0.4, 'user account member message contact'.split(' ')],
];

/** Columns, and what they speak for. */
const COLUMNS: readonly (readonly [Decided, number, RegExp])[] = [
  ['authored', 0.5, /^(slug|permalink|handle|url_key|seo_.*|meta_(title|description|keywords))$/],
  [
    'authored',
    0.35,
    /^(published(_at)?|is_published|publish_.*|position|sort(_order)?|parent_id|template|layout|locale)$/,
  ],
  ['authored', 0.3, /^(title|headline|heading|caption)$/],
  ['collected', 0.5, /^(ip|ip_address|remote_addr|user_agent|referr?er)$/],
  ['collected', 0.5, /^(placed|ordered|paid|submitted|booked|shipped|subscribed)_(at|on)$/],
  ['collected', 0.35, /^(e_?mail|email_address|phone|street|postcode|zip)$/],
  ['collected', 0.3, /^(quantity|amount_paid|grand_total|payment_.*)$/],
  ['local', 0.5, /^(expires(_at)?|expiry|last_activity)$/],
  ['derived', 0.4, /^(ttl|cached(_at)?|checksum)$/],
];

const SURE = 0.9;
const LIKELY = 0.7;
/** How far the best class must be ahead of the next. */
const AHEAD = 0.3;
/** What follows from other tables' classes settles in a few rounds. */
const ROUNDS = 4;

/** Works out the class of each table of a database from names, columns, references and what is known of its changes. */
export function suggestClasses(tables: readonly TableFacts[]): Map<string, Suggestion<DataClass>> {
  const own = new Map(tables.map((table) => [table.name, evidenceOf(table)]));
  let classes = new Map(tables.map((table) => [table.name, decide(own.get(table.name) ?? [])]));
  for (let round = 0; round < ROUNDS; round++)
    classes = new Map(
      tables.map((table) => [table.name, decide([...(own.get(table.name) ?? []), ...followed(table, classes)])]),
    );
  return classes;
}

function evidenceOf(table: TableFacts): Evidence[] {
  const found: Evidence[] = [];
  const words = wordsOf(table.name);
  for (const [of, weight, names] of NAMES) {
    const word = words.findLast((one) => names.includes(one));
    // The last word says what a row is: an order note is a note, a page cache is a cache.
    if (word !== undefined)
      found.push({ of, weight: word === words.at(-1) ? weight : weight * 0.6, because: `its name says "${word}"` });
  }
  for (const [of, weight, pattern] of COLUMNS) {
    const column = table.columns.find((one) => pattern.test(one.name.toLowerCase()));
    if (column) found.push({ of, weight, because: `it has ${column.name}` });
  }
  if (words.includes('search') && words.some((one) => ['index', 'word', 'term'].includes(one)))
    found.push({ of: 'derived', weight: 0.85, because: 'it looks like a search index' });
  return [...found, ...fromHistory(table)];
}

function fromHistory({ history, written, rows, drawsKey }: TableFacts): Evidence[] {
  const [first, last] = [history[0], history.at(-1)];
  if (first && last && history.length > 1) {
    const times = `${history.length} snapshots`;
    const grew = history.every((one, i) => i === 0 || one.rows >= (history[i - 1] as typeof one).rows);
    if (last.rows > first.rows && grew)
      return [
        { of: 'collected', weight: 0.4, because: `it grew from ${first.rows} to ${last.rows} rows over ${times}` },
      ];
    if (last.rows === first.rows && rows > 0)
      return [{ of: 'authored', weight: 0.25, because: `it kept its ${rows} rows over ${times}` }];
    if (last.rows < first.rows)
      return [{ of: 'local', weight: 0.3, because: `it shrank from ${first.rows} to ${last.rows} rows over ${times}` }];
  }
  if (!written || written.inserted + written.updated + written.deleted === 0) return [];
  if (written.deleted > 2 * Math.max(rows, 10))
    return [{ of: 'local', weight: 0.4, because: `far more rows were deleted (${written.deleted}) than it holds` }];
  if (drawsKey && written.inserted > 100 && written.updated + written.deleted < written.inserted / 50)
    return [{ of: 'collected', weight: 0.3, because: `${written.inserted} rows were added and hardly any changed` }];
  return [];
}

/** What a table's references say, once the tables that it refers to have a class. */
function followed(
  { references, lookups }: TableFacts,
  classes: ReadonlyMap<string, Suggestion<DataClass>>,
): Evidence[] {
  const targets = new Set([
    ...references.map((one) => one.table),
    ...lookups.filter((one) => one.asked > 0 && one.found === one.asked).map((one) => one.table),
  ]);
  const found: Evidence[] = [];
  for (const target of targets) {
    const of = classes.get(target)?.value;
    if (of === 'collected') found.push({ of, weight: 0.8, because: `it refers to ${target}, which is collected` });
    if (of === 'authored') found.push({ of, weight: 0.35, because: `it refers to ${target}, which is authored` });
  }
  return found;
}

function decide(evidence: readonly Evidence[]): Suggestion<DataClass> {
  const classes = new Map<Decided, { doubt: number; reasons: Evidence[] }>();
  for (const one of evidence) {
    const known = classes.get(one.of) ?? { doubt: 1, reasons: [] };
    classes.set(one.of, { doubt: known.doubt * (1 - one.weight), reasons: [...known.reasons, one] });
  }
  const ranked = [...classes].sort(([, a], [, b]) => a.doubt - b.doubt);
  const [best, next] = ranked;
  if (!best) return { value: 'unclassified', certainty: 'open', reason: 'nothing speaks for any class' };
  const [name, { doubt, reasons }] = best;
  const strength = 1 - doubt;
  const against = next ? 1 - next[1].doubt : 0;
  const said = [...new Set(reasons.sort((a, b) => b.weight - a.weight).map((one) => one.because))]
    .slice(0, 3)
    .join('; ');
  if (strength < LIKELY || strength - against < AHEAD) {
    const but = next && against > 0.3 ? `, but for ${next[0]}: ${next[1].reasons[0]?.because}` : '';
    return { value: 'unclassified', certainty: 'open', reason: `for ${name}: ${said}${but}` };
  }
  return {
    value: name,
    certainty: strength - against >= SURE - 0.2 && strength >= SURE ? 'sure' : 'likely',
    reason: said,
  };
}
