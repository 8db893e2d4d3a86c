/** Names that go into paths, host names, database names and logins: safe everywhere, no escaping needed. */
export const NAME_PATTERN = /^[a-z][a-z0-9]*(?:-[a-z0-9]+)*$/;
/** Characters of a name at most: it becomes part of host names and of names in databases. */
export const MAX_NAME_LENGTH = 32;

/** Why a name cannot be used, or undefined when it can. */
export function nameFault(name: string): string | undefined {
  if (name.length === 0) return 'A name is needed.';
  if (name.length > MAX_NAME_LENGTH)
    return `The name has ${name.length} characters; at most ${MAX_NAME_LENGTH} are possible.`;
  if (!NAME_PATTERN.test(name)) return 'Use lower-case letters, digits and single dashes, beginning with a letter.';
  return undefined;
}

/** Proposes a free name close to the wished one: `staging`, `staging-2`, … */
export function proposeName(wish: string, taken: ReadonlySet<string>): string {
  const base =
    wish
      .toLowerCase()
      .normalize('NFKD')
      .replace(/[^a-z0-9]+/g, '-')
      .replace(/^[^a-z]+|-+$/g, '')
      .slice(0, MAX_NAME_LENGTH - 3)
      .replace(/-+$/, '') || 'copy';
  if (!taken.has(base)) return base;
  for (let number = 2; ; number++) if (!taken.has(`${base}-${number}`)) return `${base}-${number}`;
}

/** Splits `site/environment`; undefined when the text has another form. */
export function readEnvironmentPath(path: string): { site: string; environment: string } | undefined {
  const parts = path.split('/');
  const [site, environment] = parts;
  if (parts.length !== 2 || !site || !environment || nameFault(site) || nameFault(environment)) return undefined;
  return { site, environment };
}

/** How an environment's folder and host are called: two dashes, which no name contains, keep the parts apart. */
export const layoutName = (site: string, environment: string): string => `${site}--${environment}`;
