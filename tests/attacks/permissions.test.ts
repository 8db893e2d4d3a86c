import { Client } from '@tessarion/client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { addSite, done, newcomer, refusal, SHOP, type Studio, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

let studio: Studio;
/** A snapshot of the other client's live site. */
let snapshot: string;

beforeAll(async () => {
  studio = await startStudio('staging');
  await addSite(studio, { ...SHOP, name: 'saltmarsh', client: 'Saltmarsh Ferries' });
  const taken = await studio.client.call('snapshotTake', { body: { environment: 'saltmarsh/live' } });
  await done(studio, taken);
  snapshot = (await studio.client.call('snapshotList', { query: { site: 'saltmarsh' } }))[0]?.id ?? '';
}, 240_000);
afterAll(() => studio?.stop());

let number = 0;
/** Somebody with some roles, each given for something. */
async function somebody(...roles: readonly (readonly [role: string, scope: string])[]): Promise<Client> {
  const [[role, scope] = ['observer', 'threadmill'], ...others] = roles;
  const client = await newcomer(studio, `somebody-${number++}@copperlane.example`, role, scope);
  const { id } = await client.call('me');
  for (const [also, where] of others)
    await studio.client.call('roleGive', { body: { person: id, role: also, scope: where } });
  return client;
}

/** How a call ends, as an attack that is counted. */
function attack(call: Promise<unknown>): Promise<string> {
  tried('permissions');
  return refusal(call);
}

/** A role of single permissions, given for everything. */
async function roleOf(name: string, permissions: ['people.manage' | 'role.manage' | 'site.manage', 'site.read']) {
  await studio.client.call('roleSave', { params: { name }, body: { title: name, permissions }, etag: null });
  return name;
}

describe('who manages one site', () => {
  const classes = { table: 'sailing', class: 'local' } as const;
  const classify = (client: Client, trial: boolean) =>
    client.call('profileClassify', { params: { site: 'threadmill' }, body: { ...classes, trial } });

  it('does not change the profile of others who share it, and is not told their names', async () => {
    const client = await somebody(['operations', 'threadmill']);
    const said = await classify(client, true);
    expect([said.sites, said.reachesOthers, said.isSaved]).toEqual([['threadmill'], true, false]);
    tried('permissions');
    const refused = await classify(client, false).catch((error: Error) => error);
    expect(refused).toMatchObject({ problem: { type: 'tessarion:not-allowed' } });
    expect(JSON.stringify(refused)).not.toContain('saltmarsh');
    const { version } = await studio.client.call('profileShow', { params: { name: said.profile } });
    expect(version).toBe(said.version - 1);
  });

  it('changes it as soon as they manage all of them', async () => {
    const client = await somebody(['operations', 'threadmill'], ['operations', 'saltmarsh']);
    expect(await classify(client, false)).toMatchObject({ isSaved: true, reachesOthers: false });
  });

  it('reads no profile that only others have', async () => {
    const { text } = await studio.client.call('profileShow', { params: { name: 'quayside' } });
    await studio.client.call('profileSave', {
      params: { name: 'ferries' },
      body: { text: text.replace(/^name: .*$/m, 'name: ferries') },
      etag: null,
    });
    const give = (profile: string) =>
      studio.client.call('profileUse', { params: { site: 'saltmarsh' }, body: { profile }, etag: '*' });
    await give('ferries');
    const client = await somebody(['operations', 'threadmill']);
    const named = async () => (await client.call('profileList')).map((one) => one.name);
    expect(await named()).not.toContain('ferries');
    const params = { name: 'ferries' };
    expect(await attack(client.call('profileShow', { params }))).toBe('not-found');
    expect(await attack(client.call('profileEffective', { params }))).toBe('not-found');
    const use = { params: { site: 'threadmill' }, body: { profile: 'ferries' }, etag: '*' };
    expect(await attack(client.call('profileUse', use))).toBe('not-found');
    await give('quayside');
    expect(await named(), 'what nobody has').toContain('ferries');
  });
});

describe('what comes from another client’s site', () => {
  const into = { site: 'threadmill' };
  const acts: readonly [string, (client: Client) => Promise<unknown>][] = [
    [
      'a copy',
      (client) =>
        client.call('environmentCreate', { params: into, body: { name: 'one', kind: 'dev', from: 'saltmarsh/live' } }),
    ],
    [
      'a copy of a snapshot',
      (client) => client.call('environmentCreate', { params: into, body: { name: 'one', kind: 'dev', snapshot } }),
    ],
    [
      'a reset',
      (client) => client.call('resetCreate', { body: { from: 'saltmarsh/live', onto: 'threadmill/staging' } }),
    ],
  ];

  it.each(acts)('needs the permission there: %s', async (_what, act) => {
    const stranger = await somebody(['developer', 'threadmill']);
    expect(await attack(act(stranger))).toBe('not-found');
    const reader = await somebody(['developer', 'threadmill'], ['observer', 'saltmarsh']);
    expect(await attack(act(reader))).toBe('not-allowed');
    const both = await somebody(['developer', 'threadmill'], ['developer', 'saltmarsh']);
    expect(await attack(act(both))).not.toMatch(/^not-(allowed|found)$/);
  });

  it('is not forecast from a snapshot that is not theirs to see', async () => {
    const client = await somebody(['developer', 'threadmill']);
    const body = { from: 'threadmill/live', onto: 'threadmill/staging', snapshot };
    expect(await attack(client.call('forecastCreate', { body }))).toBe('not-found');
  });
});

describe('a copy that is not harmless', () => {
  const copy = (client: Client, accepts: { acceptPersonal?: string; acceptTraces?: string[] }) =>
    client.call('environmentCreate', {
      params: { site: 'threadmill' },
      body: { name: `open-${number++}`, kind: 'dev', ...accepts },
    });

  it('takes who may see personal values of live, where these stay as they are', async () => {
    const client = await somebody(['developer', 'threadmill']);
    expect(await attack(copy(client, { acceptPersonal: 'It is quicker.' }))).toBe('not-allowed');
    const may = await somebody(['operations', 'threadmill']);
    expect(await refusal(copy(may, { acceptPersonal: 'We look for a fault.' }))).toBe('done');
  });

  it('takes who manages the site, where it goes on pointing at live', async () => {
    const client = await somebody(['developer', 'threadmill']);
    expect(await attack(copy(client, { acceptTraces: ['page.body'] }))).toBe('not-allowed');
    const reset = { from: 'threadmill/live', onto: 'threadmill/staging', acceptTraces: ['page.body'] };
    expect(await attack(client.call('resetCreate', { body: reset }))).toBe('not-allowed');
    expect(await refusal(copy(client, {}))).toBe('done');
  });
});

describe('who manages people alone', () => {
  const crew = { params: { name: 'crew' } };

  it('takes nothing from, and erases nobody of, those who may do more', async () => {
    const client = await somebody([await roleOf('porter', ['people.manage', 'site.read']), 'everything']);
    const chief = await somebody(['administrator', 'everything']);
    const { id } = await chief.call('me');
    const members = [id];
    await studio.client.call('teamSave', { ...crew, body: { title: 'Crew', members }, etag: null });
    await studio.client.call('roleGive', { body: { team: 'crew', role: 'administrator', scope: 'everything' } });
    expect(await attack(client.call('teamRemove', crew))).toBe('not-allowed');
    const emptied = client.call('teamSave', { ...crew, body: { title: 'Crew', members: [] }, etag: '*' });
    expect(await attack(emptied)).toBe('not-allowed');
    for (const act of ['personEnd', 'personFactorEnd', 'personInviteAgain'] as const)
      expect(await attack(client.call(act, { params: { id } })), act).toBe('not-allowed');
    await studio.client.call('personEnd', { params: { id } });
    expect(await attack(client.call('personErase', { params: { id } }))).toBe('not-allowed');
    expect(await attack(client.call('personReturn', { params: { id } }))).toBe('not-allowed');
    await studio.client.call('teamRemove', crew);
  });

  it('or roles alone, narrows or removes no role that allows more', async () => {
    const client = await somebody([await roleOf('scribe', ['role.manage', 'site.read']), 'everything']);
    const role = { params: { name: await roleOf('keeper', ['site.manage', 'site.read']) } };
    const narrowed = client.call('roleSave', { ...role, body: { title: 'x', permissions: ['site.read'] }, etag: '*' });
    expect(await attack(narrowed)).toBe('not-allowed');
    expect(await attack(client.call('roleRemove', role))).toBe('not-allowed');
  });
});

describe('a client’s own person', () => {
  it('is told of colleagues and teams at their sites, and of no other client', async () => {
    await somebody(['editor', 'client:Saltmarsh Ferries']);
    const theirs = await somebody(['editor', 'saltmarsh/live']);
    const teamed = await (await somebody(['observer', 'saltmarsh'])).call('me');
    const body = { title: 'Ferry crew', members: [teamed.id] };
    await studio.client.call('teamSave', { params: { name: 'ferry' }, body, etag: null });
    await studio.client.call('roleGive', { body: { team: 'ferry', role: 'editor', scope: 'saltmarsh' } });
    const client = await somebody(['reviewer', 'client:Threadmill & Daughters']);
    tried('permissions');
    const people = await client.call('personList');
    expect(JSON.stringify(people)).not.toMatch(/saltmarsh/i);
    expect(people.map((one) => one.id)).not.toContain((await theirs.call('me')).id);
    expect(people.map((one) => one.id)).toContain((await studio.client.call('me')).id);
    tried('permissions');
    expect(JSON.stringify(await client.call('teamList'))).not.toMatch(/ferry|saltmarsh/i);
    expect((await studio.client.call('teamList')).map((one) => one.name)).toContain('ferry');
    expect((await theirs.call('personList')).map((one) => one.mail)).toContain(teamed.mail);
  });
});

describe('a token that is limited', () => {
  it.each([
    ['to some permissions', { permissions: ['site.read' as const] }],
    ['to a site', { scope: 'threadmill' }],
  ])('%s changes nothing of its person’s own, and is told nothing of it', async (_what, limit) => {
    const owner = await somebody(['operations', 'everything']);
    const whole = await owner.call('tokenCreate', { body: { name: 'whole' } });
    const { value, id } = await owner.call('tokenCreate', { body: { name: 'limited', ...limit } });
    const client = new Client({ url: studio.url, token: value });
    const acts: (() => Promise<unknown>)[] = [
      () => client.call('tokenRemove', { params: { id: whole.id } }),
      () => client.call('tokenRemove', { params: { id } }),
      () => client.call('tokenCreate', { body: { name: 'wider' } }),
      () => client.call('tokenList'),
      () => client.call('sessionList'),
      () => client.call('sessionEnd', { params: { id: 'n-0000000000' } }),
      () => client.call('noticeWish', { params: { kind: 'approved' }, body: { mail: 'never' } }),
      () => client.call('digestTimeSet', { body: { at: '06:00', zone: 'UTC' } }),
      () => client.call('calendarMake'),
      () => client.call('factorBegin', { body: { password: studio.password } }),
      () => client.call('factorEnd', { body: { code: '000000' } }),
    ];
    for (const act of acts) expect(await attack(act())).toBe('not-allowed');
    expect(await refusal(client.call('me'))).toBe('done');
    expect(await refusal(new Client({ url: studio.url, token: whole.value }).call('tokenList'))).toBe('done');
  });

  it('ends by itself in time, as does every token of which nothing else is said', async () => {
    const owner = await somebody();
    const days = (made: { createdAt: string; expiresAt: string | null }): number | null =>
      made.expiresAt === null
        ? null
        : Math.round((Date.parse(made.expiresAt) - Date.parse(made.createdAt)) / 86_400_000);
    expect(days(await owner.call('tokenCreate', { body: { name: 'one' } }))).toBe(90);
    expect(days(await owner.call('tokenCreate', { body: { name: 'two', days: 7 } }))).toBe(7);
    expect(days(await owner.call('tokenCreate', { body: { name: 'three', days: null } }))).toBeNull();
  });
});

describe('a session', () => {
  it('that nobody uses is over, long before its end', async () => {
    const client = await somebody();
    const { id } = await client.call('me');
    const seen = (when: string) =>
      studio.records.query(
        `UPDATE session SET created_at = now() - interval '3 days', last_seen_at = now() - interval '${when}' WHERE person_id = $1`,
        [id],
      );
    await seen('23 hours');
    expect(await refusal(client.call('me'))).toBe('done');
    await seen('25 hours');
    expect(await attack(client.call('me'))).toBe('not-signed-in');
  });
});
