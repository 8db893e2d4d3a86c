import { writeFile } from 'node:fs/promises';
import type { Client } from '@tessarion/client';
import { type EditName, type Endpoint, type EndpointName, endpoints, type RequestDetail } from '@tessarion/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  forecastOf,
  newcomer,
  onRecords,
  onSite,
  refusal,
  type Studio,
  startStudio,
  tessarion,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const onSitePath = { site: 'threadmill' };

let studio: Studio;
let [ida, odd]: Client[] = [];
let request: RequestDetail;
let profile = '';

beforeAll(async () => {
  studio = await startStudio('staging');
  ida = await newcomer(studio, 'ida.moe@copperlane.example', 'editor', 'threadmill', 'Ida Moe');
  odd = await newcomer(studio, 'odd.vik@copperlane.example', 'developer', 'threadmill', 'Odd Vik');
  await studio.client.call('teamSave', { params: { name: 'shop' }, body: { title: 'Shop', members: [] }, etag: null });
  await studio.client.call('roleSave', {
    params: { name: 'auditor' },
    body: { title: 'Auditor', permissions: ['site.read'] },
    etag: null,
  });
  profile = (await studio.client.call('profileShow', { params: { name: 'quayside' }, query: {} })).text;
  await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Dyeing' WHERE slug = 'dye'"));
  const forecast = await forecastOf(studio, COPY, LIVE);
  request = await studio.client.call('requestOpen', { body: { forecast: forecast.id, title: 'Dyeing' } });
  request = await studio.client.call('commentAdd', { params: { id: request.id }, body: { text: 'Why?' } });
}, 120_000);
afterAll(() => studio?.stop());

const client = (): Client => studio.client;
const show = (): Promise<RequestDetail> => client().call('requestShow', { params: { id: request.id } });
const firstComment = (given: RequestDetail) => given.threads[0]?.comments[0];
const ofRequest = () => ({ id: request.id });

/** One kind of thing that can be edited. */
interface Editing {
  readonly params: () => Record<string, string>;
  readonly body: (round: number) => unknown;
  /** What is there now: its entity tag, and what an edit changed of it. */
  readonly read: () => Promise<readonly [etag: string | undefined, value: unknown]>;
}

/** Every endpoint that is an edit; one without a row here does not compile. */
const EDITS: { readonly [N in EditName]: Editing } = {
  laneRule: {
    params: () => ({ ...onSitePath, onto: 'staging' }),
    body: (round) => ({ approvals: 0, teams: [], threadsBlock: round % 2 === 1 }),
    read: async () => {
      const rules = await client().call('laneList', { params: onSitePath });
      const rule = rules.find((one) => one.onto === 'staging');
      return [rule?.etag, rule?.threadsBlock];
    },
  },
  requestEdit: {
    params: ofRequest,
    body: (round) => ({ title: `Dyeing ${round}` }),
    read: async () => {
      const { etag, title } = await show();
      return [etag, title];
    },
  },
  commentEdit: {
    params: () => ({ ...ofRequest(), comment: firstComment(request)?.id ?? '' }),
    body: (round) => ({ text: `Why? ${round}` }),
    read: async () => {
      const comment = firstComment(await show());
      return [comment?.etag, comment?.text];
    },
  },
  windowSet: {
    params: () => onSitePath,
    body: (round) => ({ windows: [{ days: [1, 2, 3, 4, 5, 6, 7], from: '00:00', until: `23:${10 + round}` }] }),
    read: async () => {
      const { etag, windows } = await client().call('deliveryPlan', { params: onSitePath });
      return [etag, windows];
    },
  },
  environmentEdit: {
    params: () => ({ ...onSitePath, environment: 'staging' }),
    body: (round) => ({ description: `Autumn ${round}` }),
    read: async () => {
      const params = { ...onSitePath, environment: 'staging' };
      const { etag, description } = await client().call('environmentShow', { params });
      return [etag, description];
    },
  },
  siteTag: {
    params: () => onSitePath,
    body: (round) => ({ tags: [`shop-${round}`] }),
    read: async () => {
      const { etag, tags } = await client().call('siteShow', { params: onSitePath });
      return [etag, tags];
    },
  },
  profileUse: {
    params: () => onSitePath,
    body: (round) => ({ profile: round % 2 === 1 ? 'quayside-ini' : 'quayside' }),
    read: async () => {
      const site = await client().call('siteShow', { params: onSitePath });
      return [site.etag, site.profile];
    },
  },
  profileSave: {
    params: () => ({ name: 'quayside' }),
    body: (round) => ({ text: `${profile}\n# ${round}\n` }),
    read: async () => {
      const { etag, text } = await client().call('profileShow', { params: { name: 'quayside' }, query: {} });
      return [etag, text];
    },
  },
  roleSave: {
    params: () => ({ name: 'auditor' }),
    body: (round) => ({ title: `Auditor ${round}`, permissions: ['site.read'] }),
    read: async () => {
      const role = (await client().call('roleList')).find((one) => one.name === 'auditor');
      return [role?.etag, role?.title];
    },
  },
  teamSave: {
    params: () => ({ name: 'shop' }),
    body: (round) => ({ title: `Shop ${round}`, members: [] }),
    read: async () => {
      const team = (await client().call('teamList')).find((one) => one.name === 'shop');
      return [team?.etag, team?.title];
    },
  },
};

/** Sends an edit as anybody would who writes the request by hand. */
async function send(name: EditName, body: unknown, ifMatch?: string): Promise<Response> {
  const { method, path } = endpoints[name] as Endpoint;
  const params = EDITS[name].params();
  return fetch(`${studio.url}/api/v1${path.replace(/:(\w+)/g, (_all, key: string) => params[key] ?? '')}`, {
    method,
    headers: {
      authorization: `Bearer ${studio.token}`,
      'content-type': 'application/json',
      ...(ifMatch === undefined ? {} : { 'if-match': ifMatch }),
    },
    body: JSON.stringify(body),
  });
}

describe.each(Object.entries(EDITS) as [EditName, Editing][])('%s', (name, { body, read }) => {
  it('is refused without saying what was edited, and by what is there no more; nothing is written', async () => {
    const [, before] = await read();
    for (const [ifMatch, status, type] of [
      [undefined, 428, 'tessarion:etag-missing'],
      ['"something-else"', 412, 'tessarion:changed-meanwhile'],
      ['W/"weak"', 412, 'tessarion:changed-meanwhile'],
      ['', 412, 'tessarion:changed-meanwhile'],
    ] as const) {
      const response = await send(name, body(1), ifMatch);
      expect([ifMatch, response.status]).toEqual([ifMatch, status]);
      expect(await response.json()).toMatchObject({ type, next: expect.stringMatching(/./) });
    }
    expect((await read())[1]).toEqual(before);
  });

  it('is done by the tag of what is there, once, and answers with the next one', async () => {
    expect((await send(name, body(0), '*')).status).toBe(200);
    const [etag, before] = await read();
    const written = await send(name, body(1), `"something-else", "${etag}"`);
    expect(written.status, await written.clone().text()).toBe(200);
    const [next, after] = await read();
    expect(after).not.toEqual(before);
    expect(next).not.toBe(etag);
    if (name !== 'commentEdit') expect(written.headers.get('etag')).toBe(`"${next}"`);
    expect((await send(name, body(2), `"${etag}"`)).status).toBe(412);
    expect((await read())[1]).toEqual(after);
    expect((await send(name, body(2), '*')).status).toBe(200);
  });

  it('of two at once lets one through', async () => {
    const [etag] = await read();
    const both = await Promise.all([send(name, body(3), `"${etag}"`), send(name, body(5), `"${etag}"`)]);
    expect(both.map((one) => one.status).sort()).toEqual([200, 412]);
  });
});

it('makes what is not there yet without a tag, and not by the tag of what went', async () => {
  const team = { params: { name: 'legal' }, body: { title: 'Legal', members: [] } };
  expect(await refusal(client().call('teamSave', { ...team, etag: '*' }))).toBe('changed-meanwhile');
  const made = await client().call('teamSave', { ...team, etag: null });
  expect(await refusal(client().call('teamSave', { ...team, etag: null }))).toBe('etag-missing');
  await client().call('teamRemove', { params: { name: 'legal' } });
  expect(await refusal(client().call('teamSave', { ...team, etag: made.etag }))).toBe('changed-meanwhile');
});

it('answers an edit that is sent twice with one key as it did the first time', async () => {
  const team = { params: { name: 'shop' }, idempotencyKey: 'twice' };
  const [etag] = await EDITS.teamSave.read();
  const edit = { ...team, body: { title: 'Once', members: [] }, etag: etag ?? null };
  const first = await client().call('teamSave', edit);
  expect(await client().call('teamSave', edit), 'though its tag is another by now').toEqual(first);
  expect(await refusal(client().call('teamSave', { ...edit, etag: first.etag })), 'another edit').toBe('conflict');
  expect((await EDITS.teamSave.read())[1]).toBe('Once');
});

it('keeps a tag while other things become of what it is about', async () => {
  const { etag } = await show();
  await client().call('commentAdd', { params: ofRequest(), body: { text: 'And this?' } });
  expect((await show()).etag).toBe(etag);
  const environment = { ...onSitePath, environment: 'staging' };
  const before = await client().call('environmentShow', { params: environment });
  await client().call('snapshotTake', { body: { environment: COPY } });
  await forecastOf(studio, COPY, LIVE);
  expect((await client().call('environmentShow', { params: environment })).etag).toBe(before.etag);
});

it('names the header in the OpenAPI document for exactly the edits', async () => {
  const response = await fetch(`${studio.url}/api/openapi.json`, {
    headers: { authorization: `Bearer ${studio.token}` },
  });
  const { paths } = (await response.json()) as {
    paths: Record<string, Record<string, { operationId: EndpointName; parameters: { name: string }[] }>>;
  };
  const edits = Object.values(paths)
    .flatMap((path) => Object.values(path))
    .filter((one) => one.parameters.some((parameter) => parameter.name === 'If-Match'))
    .map((one) => one.operationId);
  expect(edits.sort()).toEqual(Object.keys(EDITS).sort());
  const docs = await fetch(`${studio.url}/api/docs`, { headers: { authorization: `Bearer ${studio.token}` } });
  expect((await docs.text()).split('of what was edited</p>')).toHaveLength(edits.length + 1);
});

describe('a request', () => {
  const edit = async (body: Parameters<typeof editAs>[1]) => editAs(client(), body);
  const editAs = async (
    by: Client,
    body: {
      title?: string;
      steps?: { phase: 'before' | 'after'; text: string }[];
      wantedFor?: string | null;
    },
  ) => by.call('requestEdit', { params: ofRequest(), body, etag: (await show()).etag });
  const step = (text: string, phase: 'before' | 'after' = 'before') => ({ phase, text });

  it('keeps the ticks of steps that stay, in their new order', async () => {
    const first = await edit({ steps: [step('Tell the shop'), step('Empty the cache', 'after')] });
    const [tell] = first.steps;
    const params = { ...ofRequest(), step: tell?.id ?? '' };
    await client().call('stepTick', { params, body: { done: true } });
    const next = await edit({ steps: [step('Close the till'), step('Tell the shop')] });
    expect(next.steps.map((one) => [one.text, one.doneAt !== null])).toEqual([
      ['Close the till', false],
      ['Tell the shop', true],
    ]);
    expect(next.steps[1]?.id).toBe(tell?.id);
    const last = await edit({ title: 'Dyeing, all of it' });
    expect(last.steps).toEqual(next.steps);
    expect(last.history.slice(-2).map((one) => [one.act, one.words])).toEqual([
      ['edit', 'manual steps'],
      ['edit', 'title'],
    ]);
  });

  it('says when it is wanted, and refuses what is over', async () => {
    expect((await edit({ wantedFor: 'window' })).wantedFor).toBe('window');
    const later = new Date(Date.now() + 86_400_000).toISOString();
    expect((await edit({ wantedFor: later })).wantedFor).toBe(later);
    const over = new Date(Date.now() - 60_000).toISOString();
    expect(await refusal(edit({ wantedFor: over }))).toBe('invalid');
    expect((await show()).wantedFor).toBe(later);
    // One that is over by now may stay while something else is edited.
    const past = new Date(Date.now() - 3_600_000).toISOString();
    await onRecords(studio, `UPDATE change_request SET wanted_for = '${past}' WHERE id = '${request.id}'`);
    expect((await edit({ title: 'Dyeing, later', wantedFor: past })).wantedFor).toBe(past);
    expect((await edit({ wantedFor: null })).wantedFor).toBeNull();
  });

  it('is edited and withdrawn by whose it is, or who manages the site', async () => {
    const colleague = ida as Client;
    const allowed = async (by: Client): Promise<string[]> =>
      (await by.call('requestShow', { params: ofRequest() })).acts.filter((one) => one.allowed).map((one) => one.act);
    expect(await allowed(colleague)).not.toContain('edit');
    expect(await allowed(client())).toContain('edit');
    expect(await refusal(editAs(colleague, { title: 'Mine' }))).toBe('not-allowed');
    const withdraw = (by: Client) => by.call('requestWithdraw', { params: ofRequest(), body: { reason: 'No.' } });
    expect(await refusal(withdraw(odd as Client))).toBe('not-allowed');
    expect((await show()).state).toBe('draft');

    await onSite(studio, COPY, (query) => query("UPDATE product SET price = 41 WHERE slug = 'apron'"));
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['product:*'] } });
    const theirs = await colleague.call('requestOpen', {
      body: { forecast: forecast.id, title: 'Price', wantedFor: 'window' },
    });
    expect(theirs.wantedFor).toBe('window');
    const params = { id: theirs.id };
    const renamed = await client().call('requestEdit', { params, body: { title: 'Prices' }, etag: theirs.etag });
    expect(renamed.title).toBe('Prices');
    expect((await colleague.call('requestWithdraw', { params, body: { reason: 'No.' } })).state).toBe('withdrawn');
  });

  it('is edited on the command line; what is not named stays', async () => {
    await edit({ steps: [step('Close the till'), step('Tell the shop')] });
    const { code, out, err } = await tessarion(studio, [
      ...['request', 'edit', request.id, '--title', 'Dyes', '--describe', 'For **autumn**.'],
      ...['--reviewer', 'ida.moe@copperlane.example', '--after', 'Look at the shop', '--wanted', 'window'],
    ]);
    expect([code, err]).toEqual([0, '']);
    for (const said of ['Dyes', 'For **autumn**.', 'Ida Moe', 'after the delivery: Look at the shop', 'next window'])
      expect(out).toContain(said);
    const { steps } = await show();
    expect(steps.map((one) => one.text)).toEqual(['Close the till', 'Tell the shop', 'Look at the shop']);
    const nothing = await tessarion(studio, ['request', 'edit', request.id]);
    expect([nothing.code, nothing.err]).toEqual([2, expect.stringContaining('Nothing is to be changed')]);
    const over = await tessarion(studio, ['request', 'edit', request.id, '--wanted', '2020-01-01T00:00:00Z']);
    expect([over.code, over.err]).toEqual([2, expect.stringContaining('is in the past')]);
  });
});

it('refuses a profile on the command line that was edited from an older version', async () => {
  const { etag, version } = await client().call('profileShow', { params: { name: 'quayside' }, query: {} });
  expect(etag).toBe(String(version));
  const file = `${studio.data}/quayside.yaml`;
  await writeFile(file, profile);
  const older = await tessarion(studio, ['profile', 'save', file, '--edited', String(version - 1)]);
  expect([older.code, older.err]).toEqual([5, expect.stringContaining('Somebody changed this')]);
  const newest = await tessarion(studio, ['profile', 'save', file, '--edited', String(version)]);
  expect([newest.code, newest.out]).toEqual([0, expect.stringContaining(`version ${version + 1}`)]);
});
