/** A policy of a page, and what it says of styles (Content Security Policy Level 3, W3C, 6.8.1 and 6.8.4). */
const STYLES = ['style-src-elem', 'style-src', 'default-src'] as const;

/**
 * A page's policies with room for one style element, by its hash, and for nothing else. One that allows all inline styles stays
 * as it is: a hash beside it would take that away.
 *
 * @param policies the header's value: serialised policies, with commas between
 * @param hash such as `'sha256-…'`
 */
export const allowStyle = (policies: string, hash: string): string =>
  policies
    .split(',')
    .map((policy) => allowIn(policy, hash))
    .join(',');

function allowIn(policy: string, hash: string): string {
  const directives = policy.split(';').map((one) => one.trim().split(/\s+/));
  const nameOf = ([name = '']: readonly string[]): string => name.toLowerCase();
  const ruling = STYLES.map((name) => directives.find((one) => nameOf(one) === name)).find((one) => one !== undefined);
  if (!ruling) return policy;
  const [name, ...sources] = ruling as [string, ...string[]];
  const isKeyword = (source: string): boolean => /^'(nonce|sha\d+)-/i.test(source);
  if (sources.some((one) => one.toLowerCase() === "'unsafe-inline'") && !sources.some(isKeyword)) return policy;
  const allowed = [...sources.filter((one) => one.toLowerCase() !== "'none'"), hash];
  // What rules styles by default rules other things too.
  if (name.toLowerCase() === 'default-src') return `${policy}; style-src-elem ${allowed.join(' ')}`;
  return directives.map((one) => (one === ruling ? [name, ...allowed] : one).join(' ')).join('; ');
}
