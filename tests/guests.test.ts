import { readFile } from 'node:fs/promises';
import { Client } from '@tessarion/client';
import type { GuestRoom, RequestDetail } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { KeptSite } from './support/kept-site.js';
import {
  comeIn,
  done,
  forecastOf,
  makeCopy,
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
const SITE = { site: 'threadmill' };

let studio: Studio;
let kept: KeptSite;
let ida: Client;
let lise: Client;

beforeAll(async () => {
  studio = await startStudio('staging');
  ida = await newcomer(studio, 'ida@copperlane.example', 'editor', 'threadmill', 'Ida');
  lise = await newcomer(studio, 'lise@copperlane.example', 'reviewer', 'threadmill', 'Lise');
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => studio?.stop());
beforeEach(async () => {
  for (const one of (await ida.call('requestList', { query: { open: 'yes' } })).items)
    await studio.client.call('requestWithdraw', { params: { id: one.id }, body: { reason: 'The test is over.' } });
  await kept.restore();
  await rule(1, 0);
});

const run = (path: string, sql: string) => onSite(studio, path, (query) => query(sql));
const rule = (approvals: number, guests: number) =>
  studio.client.call('laneRule', {
    params: { ...SITE, onto: 'live' },
    body: { approvals, teams: [], threadsBlock: false, guests },
    etag: '*',
  });
const show = (id: string): Promise<RequestDetail> => ida.call('requestShow', { params: { id } });
const approve = (request: RequestDetail) =>
  lise.call('verdictGive', { params: { id: request.id }, body: { says: 'approve', revision: request.revision } });

/** A request in review, with its preview ready. */
async function asked(title: string): Promise<RequestDetail> {
  await run(COPY, `UPDATE page SET title = '${title}' WHERE slug = 'home'`);
  const forecast = await forecastOf(studio, COPY, LIVE);
  const { id } = await ida.call('requestOpen', { body: { forecast: forecast.id, title } });
  await ida.call('requestAsk', { params: { id } });
  await done(studio, await ida.call('previewMake', { params: { id } }));
  return show(id);
}

type Looks = { request?: string; environment?: string; title?: string }[];
const invite = (looks: Looks, more: { passcode?: string; days?: number } = {}) =>
  ida.call('guestInvite', { params: SITE, body: { name: 'Vera Lund', looks, words: 'Please look.', ...more } });
const keyIn = (url: string): string => url.slice(url.indexOf('#') + 1);

/** Comes in by a link, and looks around. */
async function enter(url: string, passcode?: string): Promise<{ guest: Client; room: GuestRoom }> {
  const guest = await comeIn(studio, url, passcode);
  return { guest, room: await guest.call('guestRoom') };
}
const yes = (guest: Client, revision: number) =>
  guest.call('guestApprove', { params: { position: 0 }, body: { revision } });

describe('a guest', () => {
  it('looks at the preview, comments, hears an answer, and says the yes that the lane asks for', async () => {
    await rule(1, 1);
    const request = await asked('Autumn');
    await lise.call('commentAdd', { params: { id: request.id }, body: { text: 'Between us: is this dear?' } });
    const { url, link } = await invite([{ request: request.id }]);
    expect(link).toMatchObject({ name: 'Vera Lund', isOpen: true, by: 'Ida', lastSeenAt: null });
    const { guest, room } = await enter(url);
    expect(room).toMatchObject({
      name: 'Vera Lund',
      client: 'Threadmill & Daughters',
      by: 'Ida',
      words: 'Please look.',
      choice: null,
    });
    expect(room.looks).toMatchObject([
      { title: 'Autumn', is: 'request', state: 'ready', revision: 1, mayApprove: true, yes: null, threads: [] },
    ]);
    expect(room.looks[0]?.items).toEqual([{ kind: 'page', title: 'Autumn', change: 'changed' }]);
    expect(JSON.stringify(room), 'what colleagues say among themselves is not told').not.toContain('Between us');

    const open = await guest.call('guestOpen', { params: { position: 0 } });
    const { host, pathname, search } = new URL(open.url);
    const entered = await visit(studio.gatewayPort, host.split(':')[0] as string, `${pathname}${search}`);
    expect(entered.status).toBe(303);

    await guest.call('guestSay', { params: { position: 0 }, body: { text: 'Lovely. Is it *wool*?' } });
    const talked = await show(request.id);
    const thread = talked.threads.find((one) => one.comments[0]?.isGuest);
    expect(thread?.comments).toMatchObject([{ author: { name: 'Vera Lund' }, text: 'Lovely. Is it *wool*?' }]);
    const [notice] = (await ida.call('noticeList')).items;
    expect(notice).toMatchObject({ kind: 'comment', words: 'Vera Lund, a guest: Lovely. Is it *wool*?' });
    await ida.call('commentAdd', { params: { id: request.id }, body: { text: 'It is.', thread: thread?.id ?? '' } });
    const answered = await guest.call('guestRoom');
    expect(answered.looks[0]?.threads).toMatchObject([
      { isResolved: false, comments: [{ isOwn: true }, { isOwn: false, by: 'Ida', text: 'It is.' }] },
    ]);

    await approve(talked);
    const waiting = await show(request.id);
    expect(waiting).toMatchObject({ state: 'in-review', isApproved: false, items: [{ missing: 0, missingGuests: 1 }] });
    const said = await yes(guest, 1);
    expect(said.looks[0]?.yes).toMatchObject({ isCurrent: true });
    const approved = await show(request.id);
    expect(approved).toMatchObject({ state: 'approved', isApproved: true });
    expect(approved.items[0]?.approvedBy.sort()).toEqual(['Lise', 'Vera Lund']);
    expect(approved.history.at(-2)).toMatchObject({ person: 'Vera Lund', act: 'verdict approve' });
    const entries = (await studio.client.call('journalList', { query: { act: 'guestApprove' } })).items;
    expect(entries[0]).toMatchObject({ actor: `guest ${link.id}`, name: 'Vera Lund', outcome: 'done' });
  });

  it('says yes to what they saw: a changed request is behind its preview, and the yes falls', async () => {
    await rule(1, 1);
    const request = await asked('First');
    const { guest } = await enter((await invite([{ request: request.id }])).url);
    await yes(guest, 1);
    await approve(request);
    expect((await show(request.id)).state).toBe('approved');
    await run(COPY, "UPDATE page SET title = 'Second' WHERE slug = 'home'");
    await ida.call('requestRevise', { params: { id: request.id }, body: {} });
    await expect.poll(async () => (await show(request.id)).revision).toBe(2);
    expect(await show(request.id)).toMatchObject({ state: 'in-review', items: [{ missing: 1, missingGuests: 1 }] });
    const room = await guest.call('guestRoom');
    expect(room.looks[0]).toMatchObject({ state: 'behind', mayApprove: false, yes: { isCurrent: false } });
    for (const revision of [1, 2]) expect(await refusal(yes(guest, revision))).toBe('outdated');
    await done(studio, await ida.call('previewMake', { params: { id: request.id } }));
    expect(await refusal(yes(guest, 1))).toBe('outdated');
    expect(await refusal(yes(guest, 2))).toBe('done');
  });

  it('whose link is ended is out at once, and their yes counts no more', async () => {
    await rule(1, 1);
    const request = await asked('Ended');
    const { url, link } = await invite([{ request: request.id }]);
    const { guest } = await enter(url);
    await yes(guest, 1);
    await approve(request);
    expect((await show(request.id)).state).toBe('approved');
    expect(await ida.call('guestEnd', { params: { id: link.id } })).toMatchObject({ isOpen: false });
    expect(await refusal(guest.call('guestRoom'))).toBe('not-signed-in');
    expect(await refusal(enter(url))).toBe('not-signed-in');
    expect(await show(request.id)).toMatchObject({ state: 'in-review', items: [{ missingGuests: 1 }] });
    expect(await refusal(ida.call('guestEnd', { params: { id: link.id } }))).toBe('conflict');
  });

  it('comes in with the passcode only, and is held off after five wrong ones', async () => {
    const { url } = await invite([{ environment: COPY }], { passcode: 'weld and woad' });
    expect(await refusal(enter(url))).toBe('passcode');
    expect((await enter(url, 'weld and woad')).room.looks).toHaveLength(1);
    for (let i = 0; i < 5; i++) expect(await refusal(enter(url, 'madder'))).toBe('passcode');
    expect(await refusal(enter(url, 'weld and woad'))).toBe('too-many-tries');
  });

  it('replies in conversations that they began there, and in no other', async () => {
    const first = await asked('Talk');
    const { guest } = await enter((await invite([{ request: first.id }, { environment: COPY }])).url);
    const say = (position: number, text: string, thread?: string) =>
      guest.call('guestSay', { params: { position }, body: { text, ...(thread === undefined ? {} : { thread }) } });
    const begun = (await say(0, 'Of the request.')).looks[0]?.threads[0]?.id ?? '';
    const variant = (await say(1, 'Of the variant.')).looks[1]?.threads[0]?.id ?? '';
    expect(await refusal(say(1, 'Misplaced.', begun))).toBe('not-found');
    expect(await refusal(say(0, 'Misplaced.', variant))).toBe('not-found');
    await say(0, 'More.', begun);
    const [reply] = await onRecords(studio, "SELECT id FROM request_comment WHERE text = 'More.'");
    expect(await refusal(say(0, 'To a reply.', String(reply?.id))), 'a reply is no conversation').toBe('not-found');
    const talked = await lise.call('commentAdd', { params: { id: first.id }, body: { text: 'Among us.' } });
    const internal = talked.threads.find((one) => one.comments[0]?.text === 'Among us.')?.id ?? '';
    expect(await refusal(say(0, 'Overheard.', internal))).toBe('not-found');
  });

  it('chooses one of several variants, and talks about each', async () => {
    await makeCopy(studio, 'threadmill', 'warm');
    const { url, link } = await invite([{ environment: COPY, title: 'Cool' }, { environment: 'threadmill/warm' }]);
    const { guest, room } = await enter(url);
    expect(room.looks.map((one) => [one.title, one.is, one.state])).toEqual([
      ['Cool', 'variant', 'ready'],
      ['warm', 'variant', 'ready'],
    ]);
    await guest.call('guestSay', { params: { position: 1 }, body: { text: 'This one breathes.' } });
    expect(await refusal(yes(guest, 1)), 'a variant is chosen').toBe('conflict');
    await guest.call('guestChoose', { body: { position: 1 } });
    const told = (await ida.call('noticeList', { query: { limit: 2 } })).items;
    const notice = { kind: 'guest', request: null, site: 'threadmill', title: 'Vera Lund', onto: 'threadmill/warm' };
    expect(told).toMatchObject([
      { ...notice, words: 'I choose this one.' },
      { ...notice, words: 'This one breathes.' },
    ]);
    expect(
      (await lise.call('noticeList')).items.filter((one) => one.kind === 'guest'),
      'only who invited',
    ).toEqual([]);
    const [shown] = await ida.call('guestList', { params: SITE, query: {} });
    expect(shown).toMatchObject({ id: link.id, choice: 1, threads: [{ position: 1, comments: [{ isGuest: true }] }] });
    const thread = shown?.threads[0]?.id ?? '';
    await ida.call('guestAnswer', { params: { id: link.id }, body: { thread, text: 'We thought so.' } });
    expect((await guest.call('guestRoom')).looks[1]?.threads[0]?.comments).toMatchObject([
      { isOwn: true },
      { isOwn: false, by: 'Ida', text: 'We thought so.' },
    ]);
  });

  it('gets in by no link that was made up, changed, or is over', async () => {
    const { url, link } = await invite([{ environment: COPY }], { days: 1 });
    const key = keyIn(url);
    const at = url.slice(0, url.indexOf('#'));
    const other = keyIn((await invite([{ environment: COPY }])).url);
    for (const wrong of [
      'none',
      `${link.id}.`,
      `${key.slice(0, -1)}${key.endsWith('A') ? 'B' : 'A'}`,
      `${link.id}.${other.split('.')[1]}`,
    ])
      expect(await refusal(enter(`${at}#${wrong}`))).toBe('not-signed-in');
    await onRecords(
      studio,
      `UPDATE guest_link SET expires_at = expires_at + interval '1 year' WHERE id = '${link.id}'`,
    );
    expect(await refusal(enter(url)), 'the time is signed too').toBe('not-signed-in');
    const late = await invite([{ environment: COPY }], { days: 1 });
    const { guest } = await enter(late.url);
    await onRecords(studio, `UPDATE guest_link SET expires_at = now() - interval '1 s' WHERE id = '${late.link.id}'`);
    expect(await refusal(guest.call('guestRoom'))).toBe('not-signed-in');
    const rows = JSON.stringify(await onRecords(studio, 'SELECT * FROM guest_link'));
    expect(rows).toContain(link.id);
    const log = await readFile(`${studio.data}/service.log`, 'utf8');
    expect(rows, 'what lets somebody in is not on record').not.toContain(key.split('.')[1]);
    expect(log, 'nor in the log').not.toContain(key.split('.')[1]);
  });

  it('takes back nothing of what was counted against others who try to sign in from the same address', async () => {
    const { url } = await invite([{ environment: COPY }]);
    const nobody = new Client({ url: studio.url });
    const tryAt = (i: number) =>
      refusal(
        nobody.call('signIn', { body: { mail: `nobody-${i}@copperlane.example`, password: 'not the password' } }),
      );
    let tries = 0;
    while ((await tryAt(tries)) !== 'too-many-tries') expect(tries++).toBeLessThan(60);
    await enter(url);
    expect(await tryAt(tries + 1), 'the address is still held off').toBe('too-many-tries');
  });

  it('is invited to nothing of another site, to no live, and to nothing that is not there', async () => {
    const request = await asked('Bounds');
    expect(await refusal(invite([{ environment: LIVE }]))).toBe('lane-closed');
    expect(await refusal(invite([{ environment: 'threadmill/none' }]))).toBe('not-found');
    expect(await refusal(invite([{ environment: `threadmill/preview-${request.id.slice(2)}` }]))).toBe('not-found');
    expect(await refusal(invite([{ request: 'q-0000000000' }]))).toBe('not-found');
    expect(await refusal(invite([{}]))).toBe('invalid');
    expect(await refusal(invite([]))).toBe('invalid');
  });

  it('is invited, listed and ended on the command line', async () => {
    const made = await tessarion(studio, [
      'guest',
      'invite',
      'threadmill',
      '--name',
      'Per Dahl',
      '--look',
      COPY,
      '--days',
      '3',
    ]);
    expect(made.code, made.err).toBe(0);
    const url = /http\S+\/look#\S+/.exec(made.out)?.[0] ?? '';
    const { guest } = await enter(url);
    await guest.call('guestSay', { params: { position: 0 }, body: { text: 'Good.' } });
    const listed = await tessarion(studio, ['guest', 'list', 'threadmill']);
    expect(listed.out).toContain('Per Dahl');
    expect(listed.out).toContain('Good.');
    const [shown] = await ida.call('guestList', { params: SITE, query: {} });
    const [id, thread] = [shown?.id ?? '', shown?.threads[0]?.id ?? ''];
    const answered = await tessarion(studio, ['guest', 'answer', id, 'Thank you.', '--thread', thread]);
    expect(answered.code, answered.err).toBe(0);
    const ended = await tessarion(studio, ['guest', 'end', id]);
    expect(ended.code, ended.err).toBe(0);
    expect(await refusal(guest.call('guestRoom'))).toBe('not-signed-in');
  });
});

describe('the room of a guest', () => {
  it('asks for the passcode, follows what becomes of the request, and lets choose', async () => {
    const browsing = await Browsing.open(studio);
    try {
      const request = await asked('In the room');
      const page = await browsing.stranger();
      await page.goto((await invite([{ request: request.id }, { environment: COPY }], { passcode: 'madder' })).url);
      await page.getByLabel('Passcode').fill('woad');
      await page.getByRole('button', { name: 'Look' }).click();
      await page.getByText('The passcode is not right.').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      await page.getByLabel('Passcode').fill('madder');
      await page.getByRole('button', { name: 'Look' }).click();
      await page.getByText('here are 2 things to look at').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      await page.getByRole('button', { name: 'Choose this one' }).last().click();
      await page.getByText('You chose this one').waitFor();

      const hostile = '<img src=x onerror="document.title=1"> [there](javascript:alert(1)) **bold**';
      await page.getByLabel('Write something').first().fill(hostile);
      await page.getByRole('button', { name: 'Send' }).first().click();
      await page.locator('.markdown strong', { hasText: 'bold' }).waitFor();
      expect(await page.locator('.markdown img, .markdown a').count()).toBe(0);
      const colleague = await browsing.signedIn('ida@copperlane.example');
      await colleague.goto(`${studio.url}/requests/${request.id}`);
      await colleague.getByText('guest', { exact: true }).waitFor();
      expect(await colleague.locator('.markdown img, .markdown a').count()).toBe(0);

      // The page follows by itself, within its three seconds.
      await run(COPY, "UPDATE page SET title = 'Other words' WHERE slug = 'home'");
      await ida.call('requestRevise', { params: { id: request.id }, body: {} });
      await page.getByText('It is being worked on').waitFor({ timeout: 40_000 });
      expect(await page.getByRole('button', { name: 'Yes, this may go live' }).count()).toBe(0);
      expect(await browsing.faults(page)).toEqual([]);
      await ida.call('requestWithdraw', { params: { id: request.id }, body: { reason: 'Not this year.' } });
      await page.getByText('There is nothing to look at now.').waitFor({ timeout: 40_000 });
      await page.reload();
      await page.getByText('here are 2 things to look at').waitFor();

      const [link] = await ida.call('guestList', { params: SITE, query: {} });
      await ida.call('guestEnd', { params: { id: link?.id ?? '' } });
      await page.reload();
      await page.getByText('Your link has ended').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      await page.goto(`${studio.url}/look#made-up`);
      await page.getByText('This link is not valid').waitFor();
    } finally {
      await browsing.close();
    }
  });
});

describe('a guest’s cookie', () => {
  const post = (path: string, body: unknown, headers: Record<string, string> = {}): Promise<Response> =>
    fetch(`${studio.url}/api/v1${path}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', ...headers },
      body: JSON.stringify(body),
    });

  it('is for its link alone, is used by no other page, and cannot be planted', async () => {
    const one = await invite([{ environment: COPY }]);
    const other = await invite([{ environment: COPY }]);
    const entered = await post('/guest/sessions', { key: keyIn(one.url) });
    const set = entered.headers.get('set-cookie') ?? '';
    for (const rule of ['HttpOnly', 'SameSite=Strict', 'Path=/api/v1/guest']) expect(set).toContain(rule);
    const cookie = set.split(';')[0] ?? '';
    const say = { text: 'x' };
    const foreign = await post('/guest/looks/0/comments', say, { cookie, origin: 'https://elsewhere.example' });
    expect(foreign.status).toBe(403);
    expect((await post('/guest/looks/1/comments', say, { cookie })).status, 'not among its looks').toBe(404);
    // The key of a link is not its session, nor that of another one.
    const [id, signature] = cookie.replace('tessarion_guest=', '').split('.') as [string, string];
    const forged = [keyIn(one.url), `${other.link.id}.${signature}`, `${id}.`, id];
    for (const value of forged)
      expect((await post('/guest/looks/0/comments', say, { cookie: `tessarion_guest=${value}` })).status).toBe(401);
    expect((await post('/guest/looks/0/comments', say, { cookie })).status).toBe(201);
    const mass = await post(
      '/guest/looks/0/comments',
      { ...say, guest: other.link.id, person: 'p-0000000000' },
      { cookie },
    );
    expect(mass.status, 'nobody speaks for another').toBe(400);
  });
});
