import { type PersonalPlace, personalPlaces } from '../../mask/mask-inside.js';
import { type PersonalValues, personalValues } from '../../mask/personal-values.js';
import type { ColumnRule, DataClass, MaskRule } from '../schema.js';
import type { ColumnFacts, Suggestion, TableFacts } from './facts.js';

/** Told by what a column is called alone. */
const BY_NAME = 'by its name';
const MAIL = /^[^\s@]+@[^\s@]+\.[a-z]{2,}$/i;
const ADDRESS_V4_OR_V6 = /^(\d{1,3}(\.\d{1,3}){3}|[0-9a-f]{0,4}(:[0-9a-f]{0,4}){2,7})$/i;
const PHONE = /^\+?[\d\s()/.-]{6,20}$/;
/** A share of the samples that makes a pattern more than chance. */
const MOST = 0.8;

const share = ({ samples }: ColumnFacts, pattern: RegExp): number =>
  samples.length === 0 ? 0 : samples.filter((one) => pattern.test(one.trim())).length / samples.length;

type Kind = 'mail' | 'phone' | 'name' | 'street' | 'date' | 'internet-address' | 'free-text' | 'null';

/** Names that speak of something personal, and what. */
const NAMES: readonly (readonly [Kind, RegExp])[] = [
  ['mail', /(^|_)e_?mail(_address)?$|^mail$/],
  ['phone', /(^|_)(phone|telephone|mobile|fax)(_number)?$|^tel$/],
  ['internet-address', /^(ip|ip_address|remote_addr|client_ip|last_ip)$/],
  ['null', /pass(word|wd)|(^|_)(hash|token|secret|salt|iban|card_number|session_id)$/],
  ['date', /birth|^dob$/],
  ['street', /(^|_)(street|address|address_line_?\d?|addr\d?)$/],
  [
    'name',
    /^((first|last|full|family|given|middle|billing|shipping|sur|user|owner|customer|contact|recipient|author|guest)_?)?name$|^(author|recipient|firstname|lastname|surname)$/,
  ],
  ['free-text', /^(note|notes|comment|message|complaint|remark|remarks|inquiry|question|feedback)$/],
];

/** Says which of a table's columns hold something personal, and which mask keeps their form. */
export function suggestMasks(
  table: TableFacts,
  dataClass: DataClass,
  isStaff: boolean,
): Map<string, Suggestion<ColumnRule>> {
  const found = new Map<string, Suggestion<ColumnRule>>();
  const isOfPeople = isStaff || table.columns.some((column) => speaksOfPeople(column));
  for (const column of table.columns) {
    const isJson = /^jsonb?$/.test(column.type);
    if (!column.isText && !isJson && !/^(inet|date|timestamp)/.test(column.type)) continue;
    // A document is masked where people stand in it, so that it stays one.
    const one = isJson ? undefined : personal(column, dataClass, isStaff);
    // Many things have a name; people have more than that.
    if (!one || (one.kind === 'name' && one.reason === BY_NAME && !isOfPeople)) {
      const places = column.isText || isJson ? personalPlaces(column.samples, dataClass === 'collected') : [];
      if (places.length > 0) found.set(column.name, insideOf(places));
      continue;
    }
    const isUnique = [table.key, ...table.uniques].some(
      (columns) => columns.length === 1 && columns[0] === column.name,
    );
    const mask: MaskRule = one.kind === 'null' && !column.isNullable ? { fixed: '' } : one.kind;
    if (isUnique && !['mail', 'phone', 'date', 'internet-address', 'null'].includes(one.kind))
      found.set(column.name, {
        value: {},
        certainty: 'open',
        reason: `${one.reason}; it is unique, and no mask keeps such values apart`,
      });
    else found.set(column.name, { value: { personal: mask }, certainty: one.certainty, reason: one.reason });
  }
  return found;
}

const MASKS: Readonly<Record<PersonalValues, Kind>> = {
  'mail addresses': 'mail',
  'internet addresses': 'internet-address',
  'phone numbers': 'phone',
  'names of people': 'name',
};

const insideOf = (places: readonly PersonalPlace[]): Suggestion<ColumnRule> => ({
  value: { personal: { inside: Object.fromEntries(places.map(({ path, looks }) => [path, MASKS[looks]])) } },
  certainty: 'likely',
  reason: places.map(({ path, looks }) => `what stands at ${path} in it looks like ${looks}`).join('; '),
});

const lower = ({ name }: ColumnFacts): string => name.replace(/([a-z])([A-Z])/g, '$1_$2').toLowerCase();

const speaksOfPeople = (column: ColumnFacts): boolean =>
  share(column, MAIL) >= MOST ||
  /(^|_)(e_?mail|phone|street|first_?name|last_?name|surname|password)/.test(lower(column));

function personal(
  column: ColumnFacts,
  dataClass: DataClass,
  isStaff: boolean,
): { kind: Kind; certainty: 'sure' | 'likely'; reason: string } | undefined {
  const name = lower(column);
  const named = NAMES.find(([, pattern]) => pattern.test(name))?.[0];
  const isOfPeople = dataClass === 'collected' || dataClass === 'unclassified' || isStaff;
  const looks: readonly (readonly [Kind, RegExp, string])[] = [
    ['mail', MAIL, 'mail addresses'],
    ['internet-address', ADDRESS_V4_OR_V6, 'internet addresses'],
  ];
  for (const [kind, pattern, words] of looks)
    if (share(column, pattern) >= MOST) return { kind, certainty: 'sure', reason: `its values look like ${words}` };
  if (named === undefined) {
    const isNames = dataClass === 'collected' && personalValues(column.samples, true) === 'names of people';
    return isNames && column.isText
      ? { kind: 'name', certainty: 'likely', reason: 'its values look like names of people' }
      : undefined;
  }
  // The login of a member of staff is kept; what is not of people is not personal.
  if (isStaff && named === 'null') return undefined;
  if (named !== 'null' && !isOfPeople) return undefined;
  if (named === 'null' && dataClass === 'authored' && !isStaff) return undefined;
  const fits = named !== 'phone' || column.samples.length === 0 || share(column, PHONE) >= MOST;
  return { kind: named, certainty: fits && named !== 'free-text' ? 'sure' : 'likely', reason: BY_NAME };
}

const COUNTERS =
  /^(stock|in_stock|stock_.*|qty_available|views?|view_count|hits|hit_count|votes|vote_count|sold|sales_count|downloads|download_count|likes|like_count|comment_count|review_count|rating_(avg|count|sum))$/;

/** Columns of the team's own tables that visitors change: counts of what is left, seen or sold. */
export function suggestCounters(table: TableFacts): Map<string, Suggestion<ColumnRule>> {
  const found = new Map<string, Suggestion<ColumnRule>>();
  for (const { name, type } of table.columns)
    if (/int|numeric|real|double/.test(type) && COUNTERS.test(name.toLowerCase()))
      found.set(name, { value: { class: 'collected' }, certainty: 'likely', reason: 'visitors change such counts' });
  return found;
}
