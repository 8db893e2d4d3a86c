import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import {
  type Actor,
  decide,
  type Grant,
  PERMISSIONS,
  type Permission,
  READY_ROLES,
  readScope,
  type Scope,
  scopeText,
  type Thing,
} from '../src/index.js';

const EVERY = Object.keys(PERMISSIONS) as Permission[];
const live = { is: 'environment', client: 'A', site: 'one', environment: 'one/live', kind: 'live' } as const;
const THINGS: readonly Thing[] = [
  { is: 'installation' },
  { is: 'site', client: 'A', site: 'one' },
  { is: 'site', client: 'A', site: 'two' },
  { is: 'site', client: 'B', site: 'three' },
  live,
  { is: 'environment', client: 'A', site: 'one', environment: 'one/staging', kind: 'staging' },
  { is: 'environment', client: 'B', site: 'three', environment: 'three/live', kind: 'live' },
];
const scope: fc.Arbitrary<Scope> = fc
  .constantFrom('everything', 'client:A', 'client:B', 'one', 'two', 'three', 'one/live', 'one/staging', 'three/live')
  .map(readScope);
const permissions = fc.subarray(EVERY);
const grant: fc.Arbitrary<Grant> = fc.record({ role: fc.constant('some'), permissions, scope });
const actor: fc.Arbitrary<Actor> = fc.record({
  person: fc.constant('p-1'),
  isActive: fc.boolean(),
  grants: fc.array(grant, { maxLength: 4 }),
  token: fc.option(fc.record({ permissions: fc.option(permissions), scope }), { nil: undefined }),
});

/** The same rule, told by lists of what each scope holds. */
const HOLDS: Record<string, readonly number[]> = {
  everything: [0, 1, 2, 3, 4, 5, 6],
  'client:A': [1, 2, 4, 5],
  'client:B': [3, 6],
  one: [1, 4, 5],
  two: [2],
  three: [3, 6],
  'one/live': [4],
  'one/staging': [5],
  'three/live': [6],
};

describe('what somebody may do', () => {
  test('is what was given to them, for that thing, and within their token', () => {
    fc.assert(
      fc.property(actor, fc.constantFrom(...EVERY), fc.nat({ max: THINGS.length - 1 }), (who, permission, i) => {
        const isIn = (one: Scope): boolean => HOLDS[scopeText(one)]?.includes(i) === true;
        const isGiven = who.grants.some((one) => one.permissions.includes(permission) && isIn(one.scope));
        const isInToken =
          !who.token ||
          ((who.token.permissions === null || who.token.permissions.includes(permission)) && isIn(who.token.scope));
        const said = decide(who, permission, THINGS[i] as Thing);
        expect(said.allowed).toBe(who.isActive && isGiven && isInToken);
        if (!said.allowed && !who.isActive) expect(said.because).toBe('inactive');
      }),
      { numRuns: 2000 },
    );
  });

  test('never grows by a token, and never by taking a role away', () => {
    fc.assert(
      fc.property(actor, fc.constantFrom(...EVERY), fc.constantFrom(...THINGS), (who, permission, thing) => {
        if (!decide(who, permission, thing).allowed) return;
        expect(decide({ ...who, token: undefined }, permission, thing).allowed).toBe(true);
        expect(decide({ ...who, grants: [] }, permission, thing).allowed).toBe(false);
        expect(decide({ ...who, grants: [...who.grants, ...who.grants] }, permission, thing).allowed).toBe(true);
      }),
    );
  });

  test('says which rule refused, and what next', () => {
    const editor = READY_ROLES.find((one) => one.name === 'editor');
    const who: Actor = {
      person: 'p-1',
      isActive: true,
      grants: [{ role: 'editor', permissions: editor?.permissions ?? [], scope: readScope('one') }],
      token: undefined,
    };
    expect(decide(who, 'live.deliver', live)).toMatchObject({
      because: 'not-given',
      words: 'Your role may not write onto live, and take a transfer onto live back.',
    });
    expect(decide(who, 'copy.work', THINGS[6] as Thing)).toMatchObject({ because: 'given-elsewhere' });
    const token = { permissions: ['site.read'] as const, scope: readScope('one') };
    expect(decide({ ...who, token }, 'copy.work', THINGS[5] as Thing)).toMatchObject({ because: 'token' });
  });
});

test('an editor works in copies and asks, and neither reviews nor delivers; operations gives no roles', () => {
  const of = (name: string): readonly Permission[] => READY_ROLES.find((one) => one.name === name)?.permissions ?? [];
  expect(of('editor')).toEqual(expect.arrayContaining(['copy.work', 'request.open']));
  for (const never of ['live.deliver', 'request.review', 'secret.read', 'live.values'] as const)
    expect(of('editor')).not.toContain(never);
  expect(of('administrator')).toEqual(EVERY);
  expect(of('operations')).not.toContain('people.manage');
  expect(of('operations')).not.toContain('role.manage');
  expect(of('observer')).toEqual(['site.read']);
});
