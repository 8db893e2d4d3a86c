import type { AreaRule, DataClass } from '../schema.js';
import type { ConfigurationFacts, FolderFacts, SettingFact, Suggestion } from './facts.js';
import { wordsOf } from './names.js';

const FOLDERS: readonly (readonly [DataClass, 'sure' | 'likely' | 'open', readonly string[], string])[] = [
  ['derived', 'sure', ['cache', 'tmp', 'temp', 'compiled', 'thumbnail'], 'it is made anew'],
  ['local', 'sure', ['log', 'session', 'lock'], 'it belongs to one environment'],
  [
    'unclassified',
    'open',
    ['upload', 'attachment', 'userfile'],
    'it may hold what visitors sent, or what editors put there',
  ],
  [
    'authored',
    'likely',
    ['media', 'image', 'img', 'picture', 'asset', 'gallery', 'file'],
    'its name says that it holds pictures or files',
  ],
];
const NAME_LENGTH = 32;

/** Named parts of the file tree, by what their folders are called; and which text files hold the site's address. */
export function suggestAreas(folders: readonly FolderFacts[], texts: readonly string[]): Suggestion<AreaRule>[] {
  const areas: Suggestion<AreaRule>[] = [
    {
      value: { name: 'code', path: '.', class: 'authored' },
      certainty: 'sure',
      reason: 'everything that no other area holds',
    },
  ];
  const names = new Set(['code']);
  for (const { path, files } of folders.toSorted((a, b) => (a.path < b.path ? -1 : 1))) {
    const words = wordsOf(path.split('/').at(-1) ?? '');
    const rule = FOLDERS.find(([, , known]) => words.some((word) => known.includes(word)));
    if (!rule) continue;
    const [dataClass, certainty, , reason] = rule;
    const above = areas.find((one) => one.value.path !== '.' && path.startsWith(`${one.value.path}/`));
    if (above?.value.class === dataClass) continue;
    let name =
      (path.split('/').at(-1) as string)
        .toLowerCase()
        .replace(/[^a-z0-9-]+/g, '-')
        .replace(/^[^a-z]+/, '')
        .slice(0, NAME_LENGTH) || 'area';
    if (names.has(name))
      name = path
        .toLowerCase()
        .replace(/[^a-z0-9]+/g, '-')
        .replace(/^[^a-z]+/, '')
        .slice(-NAME_LENGTH)
        .replace(/^[^a-z]+/, '');
    if (names.has(name)) continue;
    names.add(name);
    areas.push({ value: { name, path, class: dataClass }, certainty, reason: `${reason} (${files} files)` });
  }
  return areas.map((area) => {
    const own = texts.filter((path) => areaOfPath(areas, path) === area);
    if (own.length === 0 || area.value.class !== 'authored') return area;
    return {
      ...area,
      value: { ...area.value, text: textPatterns(own) },
      reason: `${area.reason}; ${own.length === 1 ? 'one text file holds' : `${own.length} text files hold`} an address of the site`,
    };
  });
}

function areaOfPath(areas: readonly Suggestion<AreaRule>[], path: string): Suggestion<AreaRule> | undefined {
  return areas
    .filter(({ value }) => value.path === '.' || path.startsWith(`${value.path}/`))
    .toSorted(
      (a, b) => (b.value.path === '.' ? 0 : b.value.path.length) - (a.value.path === '.' ? 0 : a.value.path.length),
    )[0];
}

/** One pattern for each folder at the top, and for each file there. */
const textPatterns = (paths: readonly string[]): string[] => [
  ...new Set(paths.map((path) => (path.includes('/') ? `${path.split('/')[0]}/**` : path)).sort()),
];

/** A setting that a first profile could have, as it is written there. */
export interface SettingSuggestion {
  readonly name: string;
  readonly in: { file: string; format: ConfigurationFacts['format']; key: string };
  readonly from: SettingFact | { readonly generate: 'key' } | { readonly own: true };
  readonly secret?: true;
  readonly 'bound-to-address'?: true;
}

const MADE_ANEW = /(signing|app|secret|session|encryption|cookie)[_-]?(key|secret|salt)$|(^|[_.-])(salt|secret)$/i;
const BOUND = /(licen[cs]e|map|api|site)[_-]?key$/i;
const SWITCHES = /(pay|mail|smtp|debug|sandbox|test[_-]?mode|(^|[_.-])mode$|cron|queue|webhook)/i;

/** Settings whose values are facts of an environment, and the keys that somebody has to look at. */
export function suggestSettings(configurations: readonly ConfigurationFacts[]): {
  readonly settings: Suggestion<SettingSuggestion>[];
  readonly open: { readonly file: string; readonly key: string; readonly reason: string }[];
} {
  const settings: Suggestion<SettingSuggestion>[] = [];
  const open: { file: string; key: string; reason: string }[] = [];
  const names = new Set<string>();
  const nameFor = (key: string): string => {
    const base =
      key
        .toLowerCase()
        .replace(/[^a-z0-9]+/g, '-')
        .replace(/^[^a-z]+|-+$/g, '')
        .slice(0, 44) || 'setting';
    let name = base;
    for (let i = 2; names.has(name); i++) name = `${base}-${i}`;
    names.add(name);
    return name;
  };
  for (const { file, format, keys } of configurations)
    for (const { key, is } of keys) {
      const spot = { file, format, key };
      if (is) {
        const isSecret = 'part' in is && is.part === 'password';
        const what = 'address' in is ? 'the address' : 'root' in is ? 'the folder' : `the database’s ${is.part}`;
        settings.push({
          value: { name: nameFor(key), in: spot, from: is, ...(isSecret ? { secret: true as const } : {}) },
          certainty: 'sure',
          reason: `it holds ${what}`,
        });
      } else if (MADE_ANEW.test(key))
        settings.push({
          value: { name: nameFor(key), in: spot, from: { generate: 'key' }, secret: true },
          certainty: 'likely',
          reason: 'a copy should not sign with the same key',
        });
      else if (BOUND.test(key))
        settings.push({
          value: { name: nameFor(key), in: spot, from: { own: true }, 'bound-to-address': true },
          certainty: 'likely',
          reason: 'such keys are often bound to one address',
        });
      else if (SWITCHES.test(key))
        open.push({ file, key, reason: 'a copy may need another value: give it "values" by kind' });
    }
  return { settings, open };
}
