import { type Client, ServiceProblem } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import {
  addSite,
  done,
  ended,
  forecastOf,
  makeCopy,
  newcomer,
  onRecords,
  onSite,
  type Studio,
  startStudio,
  undo,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

let studio: Studio;
/** Who asks, who reviews, who delivers. */
let [ida, lead, ops]: Client[] = [];
let leadId = '';

beforeAll(async () => {
  studio = await startStudio();
  await addSite(studio);
  await makeCopy(studio, 'threadmill', 'staging');
  [ida, lead, ops] = [await comes('ida', 'editor'), await comes('lise', 'reviewer'), await comes('odd', 'operations')];
  leadId = (await lead.call('me')).id;
}, 120_000);
afterAll(() => studio?.stop());

const comes = (name: string, role: string): Promise<Client> =>
  newcomer(studio, `${name}@copperlane.example`, role, 'threadmill', name);

const asEditor = (): Client => ida as Client;
const asReviewer = (): Client => lead as Client;
const asOperations = (): Client => ops as Client;
const run = (path: string, sql: string): Promise<unknown> => onSite(studio, path, (query) => query(sql));
const value = async (path: string, sql: string): Promise<unknown> =>
  onSite(studio, path, async (query) => Object.values((await query(sql))[0] ?? {})[0]);
/** A change that no other test has made. */
const editPage = (): Promise<unknown> => run(COPY, "UPDATE page SET title = title || '.' WHERE slug = 'dye'");
const rule = (approvals: number, more: { teams?: string[]; threadsBlock?: boolean } = {}) =>
  studio.client.call('laneRule', {
    params: { site: 'threadmill', onto: 'live' },
    body: { approvals, teams: more.teams ?? [], threadsBlock: more.threadsBlock ?? false },
  });

async function refused(call: Promise<unknown>): Promise<string> {
  try {
    await call;
    return 'done';
  } catch (error) {
    if (error instanceof ServiceProblem) return error.problem.type.replace('tessarion:', '');
    throw error;
  }
}

async function open(title: string, only: string[] = [], by = asEditor()): Promise<RequestDetail> {
  const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only } });
  return by.call('requestOpen', { body: { forecast: forecast.id, title, reviewers: [{ person: leadId }] } });
}

const show = (request: RequestDetail, by = asEditor()): Promise<RequestDetail> =>
  by.call('requestShow', { params: { id: request.id } });
const ask = (request: RequestDetail): Promise<RequestDetail> =>
  asEditor().call('requestAsk', { params: { id: request.id } });

/** Looks at both ends again, and waits for what comes of it. */
async function revise(request: RequestDetail, by = asEditor()): Promise<RequestDetail> {
  await by.call('requestRevise', { params: { id: request.id }, body: {} });
  for (;;) {
    const now = await show(request);
    if (now.revising === null) return now;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
}

const verdict = (request: RequestDetail, says: 'approve' | 'return', by = asReviewer(), revision = request.revision) =>
  by.call('verdictGive', {
    params: { id: request.id },
    body: { says, revision, ...(says === 'return' ? { words: 'Not yet.' } : {}) },
  });
const deliver = (request: RequestDetail, when = 'now', more: { override?: string } = {}, by = asOperations()) =>
  by.call('requestDeliver', { params: { id: request.id }, body: { when, confirm: LIVE, ...more } });

async function delivered(request: RequestDetail): Promise<RequestDetail> {
  const { transfer } = await show(request);
  await ended(studio, { id: transfer ?? '' });
  return show(request);
}

beforeEach(async () => {
  for (const one of (await asEditor().call('requestList', { query: { open: 'yes' } })).items)
    await studio.client.call('requestWithdraw', { params: { id: one.id }, body: { reason: 'The test is over.' } });
  await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
  await rule(1);
});

describe('a change request', () => {
  it('goes from asking over a comment, a return and a new revision to live, and back', async () => {
    await run(COPY, "UPDATE product SET title = 'Linen apron, russet' WHERE slug = 'apron'");
    await editPage();
    const asked = await ask(await open('Autumn, first part'));
    expect(asked).toMatchObject({ state: 'in-review', revision: 1, isApproved: false, waitsForMe: false });
    expect(asked.items.map((item) => [item.kind, item.missing])).toEqual([
      ['page', 1],
      ['product', 1],
    ]);
    const waiting = await asReviewer().call('requestList', { query: { whose: 'waiting' } });
    expect(waiting.items.map((one) => one.id)).toEqual([asked.id]);

    const product = asked.items.find((item) => item.kind === 'product')?.id ?? '';
    const talked = await asReviewer().call('commentAdd', {
      params: { id: asked.id },
      body: { text: 'Is it **russet**, or rust?', item: product, field: 'title' },
    });
    expect(talked.threads).toMatchObject([{ item: product, field: 'title', resolvedAt: null }]);
    const returned = await verdict(asked, 'return');
    expect(returned).toMatchObject({ state: 'returned', because: 'Not yet.' });
    expect((await show(asked)).waitsForMe).toBe(true);

    await run(COPY, "UPDATE product SET title = 'Linen apron, rust' WHERE slug = 'apron'");
    const revised = await revise(asked);
    expect(revised).toMatchObject({ revision: 2, state: 'returned' });
    expect(revised.revisions.at(-1)).toMatchObject({ added: 0, changed: 1, gone: 0 });
    await asEditor().call('commentAdd', {
      params: { id: asked.id },
      body: { text: 'Rust it is.', thread: talked.threads[0]?.id ?? '' },
    });
    const again = await ask(asked);
    expect(again.state).toBe('in-review');
    expect(await refused(verdict(asked, 'approve', asReviewer(), 1))).toBe('outdated');
    const approved = await verdict(again, 'approve');
    expect(approved).toMatchObject({ state: 'approved', isApproved: true });
    expect(approved.items.every((item) => item.approvedBy.includes('lise'))).toBe(true);

    await deliver(approved);
    expect(await delivered(approved)).toMatchObject({ state: 'delivered' });
    expect(await value(LIVE, "SELECT title FROM product WHERE slug = 'apron'")).toBe('Linen apron, rust');
    const { transfer, history } = await show(approved);
    expect(await studio.client.call('transferShow', { params: { id: transfer ?? '' } })).toMatchObject({
      request: asked.id,
      person: 'odd',
    });
    expect(history.map((one) => one.act)).toEqual([
      'open',
      'ask',
      'verdict return',
      'return',
      'revise',
      'ask',
      'verdict approve',
      'approve',
      'begin',
      'arrive',
    ]);
    await done(studio, await undo(studio, transfer ?? ''));
    expect((await show(approved)).state).toBe('undone');
    expect(await value(LIVE, "SELECT title FROM product WHERE slug = 'apron'")).toBe('Linen apron');
  });

  it('keeps what was approved and loses it only for what changed', async () => {
    await run(COPY, "UPDATE product SET title = title || '!' WHERE slug IN ('apron', 'bag')");
    const asked = await ask(await open('Two products'));
    expect((await verdict(asked, 'approve')).state).toBe('approved');
    await run(COPY, "UPDATE product SET title = title || '!' WHERE slug = 'bag'");
    const revised = await revise(asked);
    expect(revised).toMatchObject({ state: 'in-review', revision: 2 });
    expect(
      Object.fromEntries(revised.items.map((item) => [item.title, [item.since, item.missing, item.lapsedFor]])),
    ).toEqual({
      'Linen apron!': [1, 0, []],
      'Market bag!!': [2, 1, ['lise']],
    });
    expect(await refused(deliver(revised))).toBe('needs-approval');
    expect((await verdict(revised, 'approve')).state).toBe('approved');
  });

  it('is outdated, not delivered, when something changed that nobody has looked at', async () => {
    await editPage();
    const before = await value(LIVE, "SELECT title FROM page WHERE slug = 'dye'");
    const asked = await ask(await open('One page'));
    await verdict(asked, 'approve');
    await run(COPY, "UPDATE page SET title = 'Never approved' WHERE slug = 'dye'");
    await deliver(asked);
    const after = await delivered(asked);
    expect(after.state).toBe('blocked');
    expect(after.because).toContain('outdated');
    expect(await value(LIVE, "SELECT title FROM page WHERE slug = 'dye'")).toBe(before);
  });

  it('hears again who sent it back, though somebody else has approved it', async () => {
    const second = await comes('liv', 'reviewer');
    await editPage();
    const asked = await ask(await open('One page'));
    await verdict(asked, 'return', second);
    expect((await show(asked)).state).toBe('returned');
    await ask(asked);
    expect((await verdict(asked, 'approve')).state).toBe('in-review');
    expect((await verdict(asked, 'return')).state).toBe('returned');
    await ask(asked);
    const waiting = await asReviewer().call('requestList', { query: { whose: 'waiting' } });
    expect(waiting.items).toMatchObject([{ id: asked.id, waitsForMe: true }]);
    expect((await verdict(asked, 'approve')).state).toBe('in-review');
    expect((await verdict(asked, 'approve', second)).state).toBe('approved');
  });

  it('is not approved by its author, nor by who has changed what is in it', async () => {
    await editPage();
    const asked = await ask(await open('Own work', [], asOperations()));
    expect(asked.acts.find((one) => one.act === 'review')).toMatchObject({ allowed: false });
    expect(await refused(verdict(asked, 'approve', asOperations()))).toBe('not-allowed');
    expect(await refused(verdict(asked, 'approve', asEditor()))).toBe('not-allowed');
    expect((await verdict(asked, 'approve')).state).toBe('approved');
  });

  it('stays as it was looked at: its forecast is not chosen anew by a way around it', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    const settle = studio.client.call('forecastSettle', { params: { id: asked.forecast }, body: { rest: 'source' } });
    expect(await refused(settle)).toBe('conflict');
  });

  it('waits for open threads where the lane says so', async () => {
    await rule(1, { threadsBlock: true });
    await editPage();
    const asked = await ask(await open('One page'));
    const talked = await asReviewer().call('commentAdd', { params: { id: asked.id }, body: { text: 'Why?' } });
    expect((await verdict(asked, 'approve')).state).toBe('in-review');
    const thread = { id: asked.id, comment: talked.threads[0]?.id ?? '' };
    const resolved = await asEditor().call('threadResolve', { params: thread, body: { resolved: true } });
    expect(resolved.state).toBe('approved');
  });
});

describe('a request that people look at', () => {
  it('follows its source: what was done since becomes its next revision', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    await editPage();
    await onRecords(studio, "UPDATE forecast SET created_at = created_at - interval '1 hour'");
    await expect.poll(async () => (await show(asked)).revision, { timeout: 90_000 }).toBe(2);
    expect((await show(asked)).revisions.at(-1)).toMatchObject({ person: 'ida', changed: 1 });
  });
});

describe('claims', () => {
  it('let one request have an item at a time; the next one waits in line', async () => {
    await editPage();
    await run(COPY, "UPDATE product SET title = 'Bag' WHERE slug = 'bag'");
    const first = await open('First', ['page:*']);
    const page = first.items[0]?.id ?? '';
    expect(await refused(open('Second', ['page:*']))).toBe('claimed');
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['page:*'] } });
    const body = { forecast: forecast.id, title: 'Second', reviewers: [{ person: leadId }], waitInLine: true };
    const second = await ask(await asEditor().call('requestOpen', { body }));
    expect(second.waitsFor).toMatchObject([{ item: page, title: 'First', author: 'ida' }]);
    await verdict(second, 'approve');
    expect(await refused(deliver(second))).toBe('claimed');
    await rule(0);
    expect(await refused(asOperations().call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }))).toBe(
      'claimed',
    );
    await asEditor().call('requestWithdraw', { params: { id: first.id }, body: { reason: 'Taken over.' } });
    expect((await show(second)).waitsFor).toEqual([]);
    await deliver(second);
    expect((await delivered(second)).state).toBe('delivered');
  });
});

describe('a lane that asks for approval', () => {
  it('refuses a plain push and says how to open a request; what is urgent goes with a reason, marked', async () => {
    await editPage();
    const { id } = await forecastOf(studio, COPY, LIVE);
    const plain = asOperations().call('pushCreate', { body: { forecast: id, confirm: LIVE } });
    await expect(plain).rejects.toMatchObject({ problem: { next: expect.stringContaining('tessarion request open') } });
    const developer = await comes('dag', 'developer');
    const urgent = { body: { forecast: id, confirm: LIVE, urgent: 'The page is wrong.' } };
    expect(await refused(developer.call('pushCreate', urgent))).toBe('not-allowed');
    const transfer = await done(studio, await asOperations().call('pushCreate', urgent));
    expect(transfer.urgent).toBe('The page is wrong.');
    // It is looked at afterwards, and stays marked.
    const request = await asReviewer().call('requestShow', { params: { id: transfer.request ?? '' } });
    expect(request).toMatchObject({
      state: 'delivered',
      urgent: 'The page is wrong.',
      title: 'Urgent: The page is wrong.',
    });
    expect((await verdict(request, 'approve')).verdicts).toMatchObject([{ says: 'approve' }]);
    expect((await show(request)).state).toBe('delivered');
  });

  it('refuses a restore too, which nobody can approve item by item', async () => {
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: LIVE } }));
    const [snapshot] = await studio.client.call('snapshotList', { query: { environment: LIVE } });
    const body = { snapshot: snapshot?.id ?? '', onto: LIVE, confirm: LIVE };
    expect(await refused(asOperations().call('restoreCreate', { body }))).toBe('needs-approval');
    const urgent = 'Back to how it was.';
    const restored = await done(studio, await asOperations().call('restoreCreate', { body: { ...body, urgent } }));
    expect(restored).toMatchObject({ kind: 'restore', urgent });
  });

  it('hears somebody of each team that it names', async () => {
    await studio.client.call('teamSave', { params: { name: 'legal' }, body: { title: 'Legal', members: [] } });
    await rule(1, { teams: ['legal'] });
    await editPage();
    const asked = await ask(await open('Terms'));
    expect((await verdict(asked, 'approve')).items[0]).toMatchObject({ missing: 0, missingTeams: ['legal'] });
    const jurist = await comes('jon', 'reviewer');
    const { id } = await jurist.call('me');
    await studio.client.call('teamSave', { params: { name: 'legal' }, body: { title: 'Legal', members: [id] } });
    expect((await verdict(asked, 'approve', jurist)).state).toBe('approved');
  });
});

describe('windows and freezes', () => {
  const windows = (list: { days: number[]; from: string; until: string }[]) =>
    studio.client.call('windowSet', { params: { site: 'threadmill' }, body: { windows: list } });
  /** Hours and a weekday that are never now: half a day away. */
  const closed = () => {
    const away = new Date(Date.now() + 12 * 3_600_000);
    const hour = (more: number): string => `${String((away.getUTCHours() + more) % 24).padStart(2, '0')}:00`;
    return [{ days: [1, 2, 3, 4, 5, 6, 7], from: hour(0), until: hour(1) }];
  };

  it('keep a delivery until its window opens, unless somebody who may says why not', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    await verdict(asked, 'approve');
    const plan = await windows(closed());
    expect(plan.now).toMatchObject({ allowed: false, because: 'window' });
    expect(await refused(deliver(asked))).toBe('closed');
    const scheduled = await deliver(asked, 'window');
    expect(scheduled).toMatchObject({ state: 'scheduled', deliverAt: plan.now.next });
    expect((await studio.client.call('deliveryPlan', { params: { site: 'threadmill' } })).deliveries).toMatchObject([
      { request: asked.id },
    ]);
    const back = await asOperations().call('requestUnschedule', { params: { id: asked.id } });
    expect(back).toMatchObject({ state: 'approved', deliverAt: null });
    expect(await refused(deliver(asked, '2020-01-01T00:00:00Z'))).toBe('invalid');
    await deliver(asked, 'now', { override: 'The museum opens today.' });
    const { transfer, state } = await delivered(asked);
    expect(state).toBe('delivered');
    expect(await studio.client.call('transferShow', { params: { id: transfer ?? '' } })).toMatchObject({
      override: 'The museum opens today.',
    });
    await windows([]);
  });

  it('begin what is due by themselves, and never late', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    await verdict(asked, 'approve');
    await deliver(asked, new Date(Date.now() + 1500).toISOString());
    await expect.poll(async () => (await show(asked)).state, { timeout: 30_000 }).toBe('delivered');

    await editPage();
    const late = await ask(await open('Another page'));
    await verdict(late, 'approve');
    const soon = new Date(Date.now() + 3_600_000).toISOString();
    await deliver(late, soon);
    // As if nobody had been there when its time came.
    await onRecords(
      studio,
      "UPDATE change_request SET deliver_at = now() - interval '20 minutes' WHERE state = 'scheduled'",
    );
    await expect.poll(async () => (await show(late)).state, { timeout: 30_000 }).toBe('blocked');
    expect((await show(late)).because).toContain('passed without it');
    await asEditor().call('requestWithdraw', { params: { id: late.id }, body: { reason: 'Too late.' } });

    // Nor by somebody whose access has ended since.
    await editPage();
    const left = await ask(await open('A third page'));
    await verdict(left, 'approve');
    const gone = await comes('gro', 'operations');
    await deliver(left, new Date(Date.now() + 3_600_000).toISOString(), {}, gone);
    await studio.client.call('personEnd', { params: { id: (await gone.call('me')).id } });
    await onRecords(studio, "UPDATE change_request SET deliver_at = now() WHERE state = 'scheduled'");
    await expect.poll(async () => (await show(left)).state, { timeout: 30_000 }).toBe('blocked');
    expect((await show(left)).because).toContain('any more');
  });

  it('a freeze stops what windows allow, for the sites that it is for', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    await verdict(asked, 'approve');
    const time = { repeats: 'yearly', from: '01-01', until: '12-31' } as const;
    const freeze = await studio.client.call('freezeAdd', {
      body: { reason: 'Stocktaking', scope: 'client:Threadmill & Daughters', time },
    });
    expect(await refused(deliver(asked))).toBe('closed');
    expect(await refused(deliver(asked, 'window'))).toBe('closed');
    expect(await refused(windows(closed()))).toBe('invalid');
    expect((await asEditor().call('freezeList')).map((one) => one.reason)).toEqual(['Stocktaking']);
    await studio.client.call('freezeRemove', { params: { id: freeze.id } });
    await deliver(asked);
    expect((await delivered(asked)).state).toBe('delivered');
  });

  it('say what is wrong with them', async () => {
    const time = { repeats: 'never', from: '2027-02-02T00:00', until: '2027-02-01T00:00' } as const;
    expect(await refused(studio.client.call('freezeAdd', { body: { reason: 'x', scope: 'threadmill', time } }))).toBe(
      'invalid',
    );
    const scope = 'client:Nobody';
    expect(
      await refused(
        studio.client.call('freezeAdd', { body: { reason: 'x', scope, time: { ...time, until: '2027-03-01T00:00' } } }),
      ),
    ).toBe('not-found');
  });
});

describe('bad input', () => {
  it('gets a clear answer', async () => {
    await editPage();
    const forecast = await forecastOf(studio, COPY, LIVE);
    const body = { forecast: forecast.id, title: 'One page' };
    const to = (reviewers: { person?: string }[]) => asEditor().call('requestOpen', { body: { ...body, reviewers } });
    expect(await refused(to([{ person: 'p-0000000000' }]))).toBe('not-found');
    expect(await refused(to([{}]))).toBe('invalid');
    expect(await refused(to([{ person: (await asEditor().call('me')).id }]))).toBe('conflict');
    const asked = await ask(await open('One page'));
    const talked = await asReviewer().call('commentAdd', { params: { id: asked.id }, body: { text: 'Why?' } });
    const thread = talked.threads[0]?.id ?? '';
    const params = { id: asked.id, comment: thread };
    expect(await refused(asEditor().call('commentEdit', { params, body: { text: 'Mine.' } }))).toBe('not-allowed');
    const edited = await asReviewer().call('commentEdit', { params, body: { text: 'Why this?' } });
    expect(edited.threads[0]?.comments[0]).toMatchObject({ text: 'Why this?', former: [{ text: 'Why?' }] });
    await asReviewer().call('commentRemove', { params });
    const reply = asEditor().call('commentAdd', { params: { id: asked.id }, body: { text: 'Because.', thread } });
    expect(await refused(reply)).toBe('conflict');
    const elsewhere = { params: { id: asked.id }, body: { text: 'x', item: 'page:999' } };
    expect(await refused(asEditor().call('commentAdd', elsewhere))).toBe('not-found');
    const nothing = await forecastOf(studio, COPY, LIVE, { wishes: { except: ['page:*'] } });
    expect(await refused(asEditor().call('requestOpen', { body: { forecast: nothing.id, title: 'None' } }))).toBe(
      'conflict',
    );
  });
});
