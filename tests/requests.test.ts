import { type Client, ServiceProblem } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Breakpoint } from './support/breakpoint.js';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  END_OTHER_SESSIONS,
  ended,
  forecastOf,
  makeCopy,
  newcomer,
  onRecords,
  onSite,
  refusal,
  type Studio,
  signIn,
  startStudio,
  undo,
  undoForecastOf,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

let studio: Studio;
let kept: KeptSite;
/** Who asks, who reviews, who delivers. */
let [ida, lead, ops]: Client[] = [];
let leadId = '';

beforeAll(async () => {
  studio = await startStudio('staging');
  [ida, lead, ops] = [await comes('ida', 'editor'), await comes('lise', 'reviewer'), await comes('odd', 'operations')];
  leadId = (await lead.call('me')).id;
  kept = await KeptSite.of(studio, LIVE, COPY);
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
    etag: '*',
  });

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
  await kept.restore();
  await rule(1);
  await studio.client.call('windowSet', { params: { site: 'threadmill' }, body: { windows: [] }, etag: '*' });
});

describe('taking a delivery back', () => {
  it('is a request of its own, which is reviewed, previewed and delivered as others are', async () => {
    await run(COPY, "UPDATE product SET title = 'Linen apron, rust' WHERE slug = 'apron'");
    const first = await ask(await open('Rust'));
    await verdict(first, 'approve');
    const { transfer } = await delivered(await deliver(first));
    await run(LIVE, "UPDATE product SET price = 36 WHERE slug = 'apron'");

    const forecast = await undoForecastOf(studio, transfer ?? '');
    const back = await asEditor().call('requestOpen', {
      body: { forecast: forecast.id, title: 'Linen again', reviewers: [{ person: leadId }] },
    });
    expect(back).toMatchObject({ undoes: transfer, from: LIVE, onto: LIVE, state: 'draft' });
    expect(back.items.map((item) => item.kind)).toEqual(['product']);
    const preview = await done(studio, await asEditor().call('previewMake', { params: { id: back.id } }));
    const [shown] = (await run(
      preview.onto,
      "SELECT title, price::float FROM product WHERE slug = 'apron'",
    )) as unknown[];
    expect(shown).toEqual({ title: 'Linen apron', price: 36 });

    // It follows live, like each request follows what it is made of.
    await run(LIVE, "UPDATE product SET price = 37 WHERE slug = 'apron'");
    const asked = await ask(await revise(back));
    expect(await refusal(deliver(asked))).toBe('needs-approval');
    await verdict(asked, 'approve');
    const gone = await delivered(await deliver(asked));
    expect(gone).toMatchObject({ state: 'delivered', undoes: transfer });
    expect((await show(first)).state).toBe('undone');
    expect(await value(LIVE, "SELECT title || ' ' || price FROM product WHERE slug = 'apron'")).toBe(
      'Linen apron 37.00',
    );
    const undone = await studio.client.call('transferShow', { params: { id: transfer ?? '' } });
    expect(undone).toMatchObject({ state: 'undone', undoneBy: gone.transfer });
    const again = await asEditor()
      .call('forecastUndo', { params: { id: transfer ?? '' }, body: {} })
      .catch((error: unknown) => (error instanceof ServiceProblem ? error.problem.type : ''));
    expect(again).toBe('tessarion:conflict');
  });

  it('is blocked where somebody else took it back first', async () => {
    await editPage();
    const first = await ask(await open('Once'));
    await verdict(first, 'approve');
    const { transfer } = await delivered(await deliver(first));
    const forecast = await undoForecastOf(studio, transfer ?? '');
    const back = await asEditor().call('requestOpen', {
      body: { forecast: forecast.id, title: 'Back', reviewers: [{ person: leadId }] },
    });
    const asked = await ask(back);
    await verdict(asked, 'approve');
    const other = await undo(studio, transfer ?? '', {}, { urgent: 'At once.' }).catch((error: unknown) =>
      error instanceof ServiceProblem ? error.problem.type : '',
    );
    expect(other, 'urgent goes past claims').toMatchObject({ kind: 'undo' });
    await done(studio, other as { id: string });
    expect(await refusal(deliver(asked))).toBe('conflict');
  });
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
    expect(await refusal(verdict(asked, 'approve', asReviewer(), 1))).toBe('outdated');
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
    expect(await refusal(undo(studio, transfer ?? ''))).toBe('needs-approval');
    const back = await done(studio, await undo(studio, transfer ?? '', {}, { urgent: 'It is the wrong red.' }));
    expect((await show(approved)).state).toBe('undone');
    const [afterwards] = (await asEditor().call('requestList', { query: {} })).items;
    expect(afterwards).toMatchObject({ urgent: 'It is the wrong red.', undoes: transfer, transfer: back.id });
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
    expect(await refusal(deliver(revised))).toBe('needs-approval');
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
    expect(await refusal(verdict(asked, 'approve', asOperations()))).toBe('not-allowed');
    expect(await refusal(verdict(asked, 'approve', asEditor()))).toBe('not-allowed');
    expect((await verdict(asked, 'approve')).state).toBe('approved');
  });

  it('stays as it was looked at: its forecast is not chosen anew by a way around it', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    const settle = studio.client.call('forecastSettle', { params: { id: asked.forecast }, body: { rest: 'source' } });
    expect(await refusal(settle)).toBe('conflict');
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
    await onRecords(studio, "UPDATE change_request SET looked_at = now() - interval '1 hour'");
    await expect.poll(async () => (await show(asked)).revision, { timeout: 90_000 }).toBe(2);
    expect((await show(asked)).revisions.at(-1)).toMatchObject({ person: 'ida', changed: 1 });
  });

  it('keeps where it comes from: that is neither removed nor made anew while it is on its way', async () => {
    await editPage();
    const asked = await ask(await open('On its way'));
    const [site, environment] = COPY.split('/') as [string, string];
    const query = { confirm: COPY };
    for (const act of [
      () => studio.client.call('environmentRemove', { params: { site, environment }, query }),
      () => studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }),
    ])
      await expect(act()).rejects.toThrow(`"On its way" (${asked.id}) of ida is on its way from ${COPY}`);
  });

  it('keeps where it goes onto, and is not asked for once an end of it is about to go', async () => {
    const { client } = studio;
    await makeCopy(studio, 'threadmill', 'desk', 'dev');
    const body = { name: 'shelf', kind: 'staging', from: 'threadmill/desk' } as const;
    await done(studio, await client.call('environmentCreate', { params: { site: 'threadmill' }, body }));
    await run('threadmill/desk', "UPDATE page SET title = 'From the desk' WHERE slug = 'dye'");
    const { id: forecast } = await forecastOf(studio, 'threadmill/desk', 'threadmill/shelf');
    const draft = (title: string) => client.call('requestOpen', { body: { forecast, title, waitInLine: true } });
    const remove = (environment: string) =>
      client.call('environmentRemove', {
        params: { site: 'threadmill', environment },
        query: { confirm: `threadmill/${environment}` },
      });
    const [asked, kept] = [await draft('Onto the shelf'), await draft('Left as a draft')];
    await client.call('requestAsk', { params: { id: asked.id } });
    await expect(remove('shelf')).rejects.toThrow(`(${asked.id}) of Maren Brask is on its way onto threadmill/shelf`);
    await client.call('requestWithdraw', { params: { id: asked.id }, body: { reason: 'Not now.' } });

    // It is being copied, so that its removal must wait.
    const breakpoint = await Breakpoint.open(studio);
    await breakpoint.set('copy');
    await client.call('environmentCreate', {
      params: { site: 'threadmill' },
      body: { name: 'from-the-shelf', kind: 'dev', from: 'threadmill/shelf' },
    });
    await breakpoint.reached();
    const removal = await remove('shelf');
    for (const act of [() => client.call('requestAsk', { params: { id: kept.id } }), () => draft('One more onto it')])
      await expect(act()).rejects.toThrow(`threadmill/shelf is about to be removed (${removal.id})`);
    await breakpoint.clear();
    await breakpoint.close();
    await done(studio, removal);
    expect(await client.call('requestShow', { params: { id: kept.id } })).toMatchObject({
      state: 'withdrawn',
      because: 'threadmill/shelf was removed.',
    });
    const notices = (await client.call('noticeList')).items;
    expect(notices.find(({ kind }) => kind === 'withdrawn')).toMatchObject({ request: kept.id });
    await done(studio, await remove('desk'));
  });

  it('says once that its ends cannot be looked at, and keeps no other from its turn', async () => {
    await makeCopy(studio, 'threadmill', 'other');
    const edit = (path: string, slug: string): Promise<unknown> =>
      run(path, `UPDATE page SET title = title || '!' WHERE slug = '${slug}'`);
    await edit(COPY, 'dye');
    const stuck = await ask(await open('It cannot be looked at'));
    await edit('threadmill/other', 'home');
    const { id: forecast } = await forecastOf(studio, 'threadmill/other', LIVE);
    const body = { forecast, title: 'It can be looked at', reviewers: [{ person: leadId }] };
    const other = await ask(await asEditor().call('requestOpen', { body }));
    await edit('threadmill/other', 'home');
    // A copy's login has the name of its database.
    const login = (may: 'LOGIN' | 'NOLOGIN'): Promise<unknown> =>
      run(
        COPY,
        `DO $$ BEGIN EXECUTE format('ALTER ROLE %I ${may}', current_database()); END $$; ${END_OTHER_SESSIONS}`,
      );
    const lookAgain = (): Promise<unknown> =>
      onRecords(
        studio,
        "UPDATE change_request SET looked_at = created_at - interval '1 hour' WHERE state = 'in-review'",
      );
    await login('NOLOGIN');
    try {
      await lookAgain();
      await expect.poll(async () => (await show(other)).revision, { timeout: 90_000 }).toBe(2);
      const failed = async (): Promise<unknown> =>
        (await onRecords(studio, `SELECT FROM forecast WHERE request = '${stuck.id}' AND state = 'failed'`)).length;
      expect(await failed()).toBe(1);
      await lookAgain();
      await expect.poll(failed, { timeout: 90_000 }).toBe(2);
      await expect.poll(async () => (await show(stuck)).revising).toBeNull();
    } finally {
      await login('LOGIN');
    }
    const looks = (await show(stuck)).history.filter((one) => one.act === 'look');
    expect(looks).toHaveLength(1);
    expect(looks[0]?.words).toContain('refused');
  });
});

describe('claims', () => {
  it('let one request have an item at a time; the next one waits in line', async () => {
    await editPage();
    await run(COPY, "UPDATE product SET title = 'Bag' WHERE slug = 'bag'");
    const first = await open('First', ['page:*']);
    const page = first.items[0]?.id ?? '';
    expect(await refusal(open('Second', ['page:*']))).toBe('claimed');
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['page:*'] } });
    const body = { forecast: forecast.id, title: 'Second', reviewers: [{ person: leadId }], waitInLine: true };
    const second = await ask(await asEditor().call('requestOpen', { body }));
    expect(second.waitsFor).toMatchObject([{ item: page, title: 'First', author: 'ida' }]);
    await verdict(second, 'approve');
    expect(await refusal(deliver(second))).toBe('claimed');
    await rule(0);
    expect(await refusal(asOperations().call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }))).toBe(
      'claimed',
    );
    await asEditor().call('requestWithdraw', { params: { id: first.id }, body: { reason: 'Taken over.' } });
    expect((await show(second)).waitsFor).toEqual([]);
    await deliver(second);
    expect((await delivered(second)).state).toBe('delivered');
  });
});

describe('from any thing on live one can ask', () => {
  const historyOf = (item: string, by = asReviewer()) =>
    by.call('itemHistory', { params: { site: 'threadmill', environment: 'live' }, query: { item } });

  it('when it came there, in which transfer, by which request, approved by whom', async () => {
    await run(COPY, "INSERT INTO product (slug, title, description, price) VALUES ('shawl', 'Shawl', 'Fine.', 90)");
    // Live has given the number to something of its own meanwhile: the shawl gets another one there.
    await run(LIVE, "INSERT INTO product (slug, title, description, price) VALUES ('cape', 'Cape', 'Felt.', 120)");
    const first = await ask(await open('Shawls', ['product:*']));
    await verdict(first, 'approve');
    const { transfer } = await delivered(await deliver(first));
    const id = `product:${await value(LIVE, "SELECT id FROM product WHERE slug = 'shawl'")}`;
    expect(id).not.toBe(`product:${await value(COPY, "SELECT id FROM product WHERE slug = 'shawl'")}`);
    const came = {
      item: id,
      title: 'Shawl',
      change: 'new',
      transfer,
      kind: 'push',
      request: { id: first.id, title: 'Shawls', author: 'ida' },
      approvedBy: ['lise'],
      urgent: null,
    };
    expect(await historyOf(id)).toMatchObject([came]);

    await run(COPY, "UPDATE product SET title = 'Silk shawl' WHERE slug = 'shawl'");
    await rule(0);
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['product:*'] } });
    const push = await asOperations().call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
    await done(studio, push);
    const changed = { item: id, title: 'Silk shawl', change: 'changed', transfer: push.id, request: null };
    for (const named of [id, 'silk shawl', 'Shawl']) expect(await historyOf(named)).toMatchObject([changed, came]);
    await done(studio, await undo(studio, push.id));
    expect(await historyOf(id)).toMatchObject([
      { kind: 'undo' },
      { transfer: push.id, undoneBy: expect.anything() },
      came,
    ]);

    const cape = `product:${await value(LIVE, "SELECT id FROM product WHERE slug = 'cape'")}`;
    expect(await historyOf(cape), 'made on live itself').toEqual([]);
  });
});

describe('what one request has and another waits for', () => {
  const inLine = async (title: string): Promise<RequestDetail> => {
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['page:*'] } });
    return asEditor().call('requestOpen', { body: { forecast: forecast.id, title, waitInLine: true } });
  };
  const noticesOf = async (by: Client, kind: string): Promise<string[]> =>
    (await by.call('noticeList')).items.filter((one) => one.kind === kind).map((one) => `${one.title}: ${one.words}`);

  it('is asked for, and handed over', async () => {
    await editPage();
    const first = await open('Has it', ['page:*'], await comes('dana', 'developer'));
    const item = first.items[0]?.id ?? '';
    const second = await inLine('Wants it');
    const id = { params: { id: second.id } };
    expect(second.waitsFor).toMatchObject([{ item, request: first.id }]);
    expect((await show(first)).wantedBy).toEqual([
      { item, request: second.id, title: 'Wants it', author: 'ida', isAsked: false },
    ]);
    await asEditor().call('claimAsk', id);
    expect((await show(first)).wantedBy).toMatchObject([{ isAsked: true }]);
    const holder = await signIn(studio, 'dana@copperlane.example');
    expect(await noticesOf(holder, 'hand-over')).toEqual([`Has it: "Wants it" waits for ${item}.`]);
    const over = (items: string[]) => holder.call('claimYield', { params: { id: first.id }, body: { items } });
    expect(await refusal(over(['page:none']))).toBe('conflict');
    const yielded = await over([item]);
    expect(yielded.waitsFor).toMatchObject([{ item, request: second.id }]);
    expect((await show(second)).waitsFor).toEqual([]);
    expect(await noticesOf(asEditor(), 'freed')).toContain('Wants it: Has it');
    expect(await refusal(asEditor().call('claimAsk', id)), 'nothing is waited for').toBe('conflict');
  });

  it('is free again when nobody does anything for two weeks, after a warning, and is claimed anew by who goes on', async () => {
    await editPage();
    const first = await open('Lies still', ['page:*']);
    const second = await inLine('Waits');
    const back = (what: string, days: number): Promise<unknown> =>
      onRecords(studio, `UPDATE change_request SET ${what} = now() - interval '${days} days' WHERE id = '${first.id}'`);
    await back('updated_at', 12);
    await expect.poll(() => noticesOf(asEditor(), 'idle'), { timeout: 30_000 }).toHaveLength(1);
    expect((await show(second)).waitsFor, 'a warning lets go of nothing').toHaveLength(1);
    await back('updated_at', 20);
    await back('idle_warned_at', 4);
    await expect.poll(async () => (await show(second)).waitsFor, { timeout: 30_000 }).toEqual([]);
    expect(await noticesOf(asEditor(), 'freed')).toContain('Waits: Lies still');
    expect((await show(first)).history.at(-1)).toMatchObject({ act: 'idle', person: 'Tessarion' });
    const [entry] = (await studio.client.call('journalList', { query: { act: 'claimsLapse' } })).items;
    expect(entry).toMatchObject({ actor: `idleness of ${first.id}`, details: { request: first.id } });
    await asEditor().call('commentAdd', { params: { id: first.id }, body: { text: 'Going on.' } });
    expect((await show(first)).waitsFor).toMatchObject([{ request: second.id }]);
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
    expect(await refusal(developer.call('pushCreate', urgent))).toBe('not-allowed');
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
    expect(await refusal(asOperations().call('restoreCreate', { body }))).toBe('needs-approval');
    const urgent = 'Back to how it was.';
    const { id: forecast } = await forecastOf(studio, LIVE, LIVE, { snapshot: body.snapshot });
    const restored = await done(
      studio,
      await asOperations().call('restoreCreate', { body: { ...body, urgent, forecast } }),
    );
    expect(restored).toMatchObject({ kind: 'restore', urgent });
  });

  it('hears somebody of each team that it names', async () => {
    await studio.client.call('teamSave', {
      params: { name: 'legal' },
      body: { title: 'Legal', members: [] },
      etag: null,
    });
    await rule(1, { teams: ['legal'] });
    await editPage();
    const asked = await ask(await open('Terms'));
    expect((await verdict(asked, 'approve')).items[0]).toMatchObject({ missing: 0, missingTeams: ['legal'] });
    const jurist = await comes('jon', 'reviewer');
    const { id } = await jurist.call('me');
    await studio.client.call('teamSave', {
      params: { name: 'legal' },
      body: { title: 'Legal', members: [id] },
      etag: '*',
    });
    expect((await verdict(asked, 'approve', jurist)).state).toBe('approved');
  });
});

describe('windows and freezes', () => {
  const windows = (list: { days: number[]; from: string; until: string }[]) =>
    studio.client.call('windowSet', { params: { site: 'threadmill' }, body: { windows: list }, etag: '*' });
  /** Hours and a weekday that are never now: half a day away. */
  const closed = () => {
    const away = new Date(Date.now() + 12 * 3_600_000);
    const hour = (more: number): string => `${String((away.getUTCHours() + more) % 24).padStart(2, '0')}:00`;
    return [{ days: [1, 2, 3, 4, 5, 6, 7], from: hour(0), until: hour(1) }];
  };

  beforeEach(() => windows([]));

  it('keep a delivery until its window opens, unless somebody who may says why not', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    await verdict(asked, 'approve');
    const plan = await windows(closed());
    expect(plan.moment).toMatchObject({ allowed: false, because: 'window' });
    expect(await refusal(deliver(asked))).toBe('closed');
    const scheduled = await deliver(asked, 'window');
    expect(scheduled).toMatchObject({ state: 'scheduled', deliverAt: plan.moment.next });
    expect((await studio.client.call('deliveryPlan', { params: { site: 'threadmill' } })).deliveries).toMatchObject([
      { request: asked.id },
    ]);
    const back = await asOperations().call('requestUnschedule', { params: { id: asked.id } });
    expect(back).toMatchObject({ state: 'approved', deliverAt: null });
    expect(await refusal(deliver(asked, '2020-01-01T00:00:00Z'))).toBe('invalid');
    await deliver(asked, 'now', { override: 'The museum opens today.' });
    const { transfer, state } = await delivered(asked);
    expect(state).toBe('delivered');
    expect(await studio.client.call('transferShow', { params: { id: transfer ?? '' } })).toMatchObject({
      override: 'The museum opens today.',
    });
  });

  it('say of a wanted time whether one may deliver then, before anybody tries', async () => {
    await editPage();
    const opened = await open('Some day');
    const { moment } = await windows(closed());
    const wanted = async (wantedFor: string | null) => {
      const { etag } = await show(opened);
      return asEditor().call('requestEdit', { params: { id: opened.id }, body: { wantedFor }, etag });
    };
    expect((await wanted(null)).wantedMoment).toBeNull();
    expect((await wanted('window')).wantedMoment).toEqual(moment);
    const next = moment.next ?? '';
    const before = new Date(Date.parse(next) - 60_000).toISOString();
    expect((await wanted(before)).wantedMoment).toEqual({ allowed: false, because: 'window', until: null, next });
    const until = new Date(Date.parse(next) + 3_600_000).toISOString();
    expect((await wanted(next)).wantedMoment).toEqual({ allowed: true, because: null, until, next: null });
    const asked = await asEditor().call('deliveryPlan', { params: { site: 'threadmill' }, query: { at: next } });
    expect(asked.moment.allowed).toBe(true);
    expect(asked.openings[0]?.from, 'what is coming is told as ever').toBe(next);
    await asEditor().call('requestWithdraw', { params: { id: opened.id }, body: { reason: 'Never.' } });
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
    expect(await deliver(late, soon), 'is approved still, and may get another time').toMatchObject({
      state: 'scheduled',
      because: null,
    });
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

  it('are not overridden by who may do so no longer when the time comes', async () => {
    await editPage();
    const asked = await ask(await open('Outside its window'));
    await verdict(asked, 'approve');
    await windows(closed());
    await studio.client.call('roleSave', {
      params: { name: 'carrier' },
      body: { title: 'Carrier', permissions: ['site.read', 'live.deliver', 'window.override'] },
      etag: null,
    });
    const carrier = await comes('turid', 'carrier');
    const soon = new Date(Date.now() + 3_600_000).toISOString();
    await deliver(asked, soon, { override: 'The museum opens today.' }, carrier);
    await studio.client.call('roleSave', {
      params: { name: 'carrier' },
      body: { title: 'Carrier', permissions: ['site.read', 'live.deliver'] },
      etag: '*',
    });
    await onRecords(studio, "UPDATE change_request SET deliver_at = now() WHERE state = 'scheduled'");
    await expect.poll(async () => (await show(asked)).state, { timeout: 30_000 }).toBe('blocked');
    expect((await show(asked)).because).toBe(
      `turid, who set the time, may not deliver onto ${LIVE} outside its windows any more.`,
    );
  });

  it('a freeze for a tag holds for the sites that have it, as long as they do', async () => {
    const { client } = studio;
    const tag = (tags: string[]) =>
      client.call('siteTag', { params: { site: 'threadmill' }, body: { tags }, etag: '*' });
    const add = () =>
      client.call('freezeAdd', {
        body: {
          reason: 'Nothing is sold today',
          scope: 'tag:shop',
          time: { repeats: 'never', from: '2020-01-01T00:00', until: '2099-01-01T00:00' },
        },
      });
    expect(await refusal(add()), 'no site has it').toBe('not-found');
    expect((await tag(['shop', 'north', 'shop'])).tags).toEqual(['north', 'shop']);
    const tagged = await client.call('siteList', { query: { tag: 'shop' } });
    expect(tagged.map((one) => one.name)).toEqual(['threadmill']);
    expect(await client.call('siteList', { query: { tag: 'none' } })).toEqual([]);
    const freeze = await add();
    const plan = () => client.call('deliveryPlan', { params: { site: 'threadmill' } });
    expect(await plan()).toMatchObject({ moment: { allowed: false, because: 'freeze' }, freezes: [{ id: freeze.id }] });
    const live = (await client.call('siteShow', { params: { site: 'threadmill' } })).environments[0];
    expect(live).toMatchObject({ state: 'frozen', reason: 'Frozen: Nothing is sold today' });
    expect((await asEditor().call('freezeList')).map((one) => one.id)).toEqual([freeze.id]);
    const planned = await client.call('deliveryPlanList');
    expect(planned.items.map((one) => one.site)).toEqual(['threadmill']);
    expect(
      await refusal(asOperations().call('freezeRemove', { params: { id: freeze.id } })),
      'it is not of one site',
    ).toBe('not-allowed');
    await tag(['north']);
    expect((await plan()).moment.allowed).toBe(true);
    expect(await asEditor().call('freezeList'), 'it concerns them no more').toEqual([]);
    await client.call('freezeRemove', { params: { id: freeze.id } });
    await tag([]);
  });

  it('a delivery that is stopped while it waits in line has not gone, and may go later', async () => {
    await editPage();
    const asked = await ask(await open('Stopped in line'));
    await verdict(asked, 'approve');
    const breakpoint = await Breakpoint.open(studio);
    await breakpoint.set('copy');
    const params = { site: 'threadmill' };
    await studio.client.call('environmentCreate', { params, body: { name: 'beside', kind: 'dev' } });
    await breakpoint.reached();
    const { transfer } = await deliver(asked);
    await asOperations().call('transferStop', { params: { id: transfer as string } });
    expect(await show(asked)).toMatchObject({ state: 'blocked', because: 'The delivery was stopped.' });
    await breakpoint.clear();
    await breakpoint.close();
    await deliver(asked);
    expect((await delivered(asked)).state).toBe('delivered');
  });

  it('keep out what waited in line until its window was over, and nothing of it is written', async () => {
    await editPage();
    const asked = await ask(await open('Late in line'));
    await verdict(asked, 'approve');
    const breakpoint = await Breakpoint.open(studio);
    // Live is being copied, so that what goes onto it must wait.
    await breakpoint.set('copy');
    const params = { site: 'threadmill' };
    await studio.client.call('environmentCreate', { params, body: { name: 'meanwhile', kind: 'dev' } });
    await breakpoint.reached();
    const before = await value(LIVE, "SELECT title FROM page WHERE slug = 'dye'");
    const { transfer } = await deliver(asked);
    await windows(closed());
    await breakpoint.clear();
    await breakpoint.close();
    const end = await ended(studio, { id: transfer as string });
    expect(end).toMatchObject({ state: 'failed', failure: { code: 'closed' } });
    expect(end.failure?.message).toContain('outside the windows of threadmill');
    expect(await value(LIVE, "SELECT title FROM page WHERE slug = 'dye'")).toBe(before);
    const blocked = await studio.client.call('requestShow', { params: { id: asked.id } });
    expect(blocked).toMatchObject({ state: 'blocked', because: end.failure?.message });
    await deliver(asked, 'now', { override: 'The museum opens today.' });
    expect((await delivered(asked)).state, 'whoever may says why not').toBe('delivered');
  });

  it('a freeze stops what windows allow, for the sites that it is for', async () => {
    await editPage();
    const asked = await ask(await open('One page'));
    await verdict(asked, 'approve');
    const time = { repeats: 'yearly', from: '01-01', until: '12-31' } as const;
    const freeze = await studio.client.call('freezeAdd', {
      body: { reason: 'Stocktaking', scope: 'client:Threadmill & Daughters', time },
    });
    expect(await refusal(deliver(asked))).toBe('closed');
    expect(await refusal(deliver(asked, 'window'))).toBe('closed');
    expect(await refusal(windows(closed()))).toBe('invalid');
    expect((await asEditor().call('freezeList')).map((one) => one.reason)).toEqual(['Stocktaking']);
    await studio.client.call('freezeRemove', { params: { id: freeze.id } });
    await deliver(asked);
    expect((await delivered(asked)).state).toBe('delivered');
  });

  it('say what is wrong with them', async () => {
    const time = { repeats: 'never', from: '2027-02-02T00:00', until: '2027-02-01T00:00' } as const;
    expect(await refusal(studio.client.call('freezeAdd', { body: { reason: 'x', scope: 'threadmill', time } }))).toBe(
      'invalid',
    );
    const scope = 'client:Nobody';
    expect(
      await refusal(
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
    expect(await refusal(to([{ person: 'p-0000000000' }]))).toBe('not-found');
    expect(await refusal(to([{}]))).toBe('invalid');
    expect(await refusal(to([{ person: (await asEditor().call('me')).id }]))).toBe('conflict');
    const asked = await ask(await open('One page'));
    const talked = await asReviewer().call('commentAdd', { params: { id: asked.id }, body: { text: 'Why?' } });
    const thread = talked.threads[0]?.id ?? '';
    const etag = talked.threads[0]?.comments[0]?.etag ?? '';
    const params = { id: asked.id, comment: thread };
    expect(await refusal(asEditor().call('commentEdit', { params, body: { text: 'Mine.' }, etag: '*' }))).toBe(
      'not-allowed',
    );
    const edited = await asReviewer().call('commentEdit', { params, body: { text: 'Why this?' }, etag });
    expect(edited.threads[0]?.comments[0]).toMatchObject({ text: 'Why this?', former: [{ text: 'Why?' }] });
    await asReviewer().call('commentRemove', { params });
    const reply = asEditor().call('commentAdd', { params: { id: asked.id }, body: { text: 'Because.', thread } });
    expect(await refusal(reply)).toBe('conflict');
    const elsewhere = { params: { id: asked.id }, body: { text: 'x', item: 'page:999' } };
    expect(await refusal(asEditor().call('commentAdd', elsewhere))).toBe('not-found');
    const nothing = await forecastOf(studio, COPY, LIVE, { wishes: { except: ['page:*'] } });
    expect(await refusal(asEditor().call('requestOpen', { body: { forecast: nothing.id, title: 'None' } }))).toBe(
      'conflict',
    );
  });
});
