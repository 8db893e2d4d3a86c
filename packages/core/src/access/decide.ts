import type { EnvironmentKind } from '../profile/schema.js';
import { PERMISSIONS, type Permission } from './permissions.js';

/** For what a role is given: everything, one client, one site, or one environment (`site/name`). */
export type Scope =
  | { readonly to: 'everything' }
  | { readonly to: 'client'; readonly client: string }
  | { readonly to: 'site'; readonly site: string }
  | { readonly to: 'environment'; readonly environment: string };

/** A role that somebody has, and for what. */
export interface Grant {
  readonly role: string;
  readonly permissions: readonly Permission[];
  readonly scope: Scope;
}

/** Who acts: a person by what was given to them, through a token perhaps, which never allows more. */
export interface Actor {
  readonly person: string;
  readonly isActive: boolean;
  readonly grants: readonly Grant[];
  /** What the token in use is limited to; undefined for a session, null within it for no limit. */
  readonly token: TokenLimit | undefined;
}

/** What a token may do at most of what its person may; null permissions: all of them. */
export interface TokenLimit {
  readonly permissions: readonly Permission[] | null;
  readonly scope: Scope;
}

/** What is acted upon. Everything finer belongs to one of these. */
export type Thing =
  | { readonly is: 'installation' }
  | { readonly is: 'site'; readonly client: string; readonly site: string }
  | {
      readonly is: 'environment';
      readonly client: string;
      readonly site: string;
      readonly environment: string;
      readonly kind: EnvironmentKind;
    };

/** `because` names the rule that refused. */
export type Decision =
  | { readonly allowed: true; readonly role: string }
  | {
      readonly allowed: false;
      readonly because: 'inactive' | 'not-given' | 'given-elsewhere' | 'token';
      readonly words: string;
      readonly next: string;
    };

/**
 * Decides whether somebody may do something to a thing.
 *
 * The rules, in order: who was deactivated may do nothing; a token allows no more than it was made for; a role that
 * holds the permission must be given for the thing or for something that it belongs to. Nothing else allows anything.
 * A permission that concerns the whole installation needs a role given for everything.
 */
export function decide(actor: Actor, permission: Permission, thing: Thing): Decision {
  const act = PERMISSIONS[permission];
  if (!actor.isActive)
    return refused('inactive', 'Your access has ended.', 'Ask an administrator of this installation.');
  if (actor.token && !withinToken(actor.token, permission, thing))
    return refused('token', `This token may not ${act}${place(thing)}.`, 'Use a token that was made for it.');
  const holding = actor.grants.filter((grant) => grant.permissions.includes(permission));
  const found = holding.find((grant) => covers(grant.scope, thing));
  if (found) return { allowed: true, role: found.role };
  const next = 'Ask somebody who gives roles here.';
  return holding.length === 0
    ? refused('not-given', `Your role may not ${act}.`, next)
    : refused('given-elsewhere', `Your role may not ${act}${place(thing)}.`, next);
}

const withinToken = ({ permissions, scope }: TokenLimit, permission: Permission, thing: Thing): boolean =>
  (permissions === null || permissions.includes(permission)) && covers(scope, thing);

/** Whether something given for a scope holds for a thing. */
export function covers(scope: Scope, thing: Thing): boolean {
  switch (scope.to) {
    case 'everything':
      return true;
    case 'client':
      return thing.is !== 'installation' && thing.client === scope.client;
    case 'site':
      return thing.is !== 'installation' && thing.site === scope.site;
    case 'environment':
      return thing.is === 'environment' && thing.environment === scope.environment;
  }
}

/** Whether somebody may do something anywhere at all: what is listed for them is then a matter of the single things. */
export const maySomewhere = ({ isActive, grants, token }: Actor, permission: Permission): boolean =>
  isActive &&
  grants.some(({ permissions }) => permissions.includes(permission)) &&
  (!token?.permissions || token.permissions.includes(permission));

const place = (thing: Thing): string =>
  thing.is === 'installation'
    ? ' in the whole installation'
    : thing.is === 'site'
      ? ` for ${thing.site}`
      : ` for ${thing.environment}`;

const refused = (because: Exclude<Decision, { allowed: true }>['because'], words: string, next: string): Decision => ({
  allowed: false,
  because,
  words,
  next,
});

/** A scope as people write and read it: `everything`, `client:NAME`, `site`, `site/environment`. */
export const scopeText = (scope: Scope): string =>
  scope.to === 'everything'
    ? 'everything'
    : scope.to === 'client'
      ? `client:${scope.client}`
      : scope.to === 'site'
        ? scope.site
        : scope.environment;

/** Reads where a role holds: `everything`, `client:NAME`, `SITE` or `SITE/ENVIRONMENT`. */
export function readScope(text: string): Scope {
  if (text === 'everything') return { to: 'everything' };
  if (text.startsWith('client:')) return { to: 'client', client: text.slice('client:'.length) };
  return text.includes('/') ? { to: 'environment', environment: text } : { to: 'site', site: text };
}
