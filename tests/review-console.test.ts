import { readFile, writeFile } from 'node:fs/promises';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Browsing, find } from './support/browsing.js';
import { KeptSite } from './support/kept-site.js';
import {
  ended,
  folderOf,
  forecastOf,
  newcomer,
  onRecords,
  onSite,
  refusal,
  type Studio,
  signIn,
  startStudio,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const mails: { to: string; text: string }[] = [];
/** A real mail server that can be switched off: it takes mails, or says that it is not there at the moment. */
let isDown = false;
const sink = new SMTPServer({
  authOptional: true,
  disabledCommands: ['STARTTLS'],
  onRcptTo(_address, _session, done) {
    done(isDown ? Object.assign(new Error('not at the moment'), { responseCode: 451 }) : undefined);
  },
  onData(stream, session, done) {
    let text = '';
    stream.on('data', (chunk: Buffer) => {
      text += chunk.toString('utf8');
    });
    stream.on('end', () => {
      mails.push({
        to: session.envelope.rcptTo[0]?.address ?? '',
        // Quoted-printable soft breaks and signs.
        text: text.replace(/=\r\n/g, '').replace(/=3D/g, '='),
      });
      done();
    });
  },
});

let studio: Studio;
let kept: KeptSite;
let browsing: Browsing;
let [ida, lise, odd]: Page[] = [];

beforeAll(async () => {
  await new Promise<void>((resolve) => sink.listen(0, '127.0.0.1', resolve));
  const { port } = sink.server.address() as AddressInfo;
  studio = await startStudio('staging', {
    variables: {
      TESSARION_SMTP_URL: `smtp://127.0.0.1:${port}`,
      TESSARION_MAIL_FROM: 'Tessarion <tessarion@copperlane.example>',
    },
  });
  await studio.client.call('laneRule', {
    params: { site: 'threadmill', onto: 'live' },
    body: { approvals: 1, teams: [], threadsBlock: true, guests: 1 },
    etag: '*',
  });
  for (const [name, role] of [
    ['Ida Moe', 'editor'],
    ['Lise Aune', 'reviewer'],
    ['Odd Rye', 'operations'],
  ] as const)
    await newcomer(studio, mailOf(name), role, 'threadmill', name);
  kept = await KeptSite.of(studio, LIVE, 'threadmill/staging');
  browsing = await Browsing.open(studio);
  ida = await browsing.signedIn(mailOf('Ida Moe'));
  lise = await browsing.signedIn(mailOf('Lise Aune'));
  odd = await browsing.signedIn(mailOf('Odd Rye'));
}, 180_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
  await new Promise<void>((resolve) => sink.close(() => resolve()));
});

const mailOf = (name: string): string => `${name.toLowerCase().replace(' ', '.')}@copperlane.example`;
const page = (one: Page | undefined): Page => one as Page;
const sound = async (one: Page): Promise<void> => expect(await browsing.faults(one)).toEqual([]);
const change = (title: string): Promise<unknown> =>
  onSite(studio, 'threadmill/staging', (query) => query('UPDATE page SET title = $1 WHERE slug = $2', [title, 'dye']));
/** A mail with some head to somebody, about the request with this address. */
const mailTo = async (name: string, head: string, path: string): Promise<string> => {
  const found = () =>
    mails.find(({ to, text }) => to === mailOf(name) && text.includes(`Subject: ${head}`) && text.includes(path));
  await expect.poll(found, { timeout: 20_000 }).toBeDefined();
  return found()?.text ?? '';
};
/** Nothing is asked for, and both ends are as they were at first. */
const begin = async (): Promise<void> => {
  isDown = false;
  const { items } = await studio.client.call('requestList', { query: { open: 'yes' } });
  for (const { id } of items)
    await studio.client.call('requestWithdraw', { params: { id }, body: { reason: 'The test is over.' } });
  await kept.restore();
};

describe('a change on its way to live, by three people and a guest, step by step', { shuffle: false }, () => {
  let path = '';
  beforeAll(begin);

  it('is asked for from the forecast, where a plain push is not to be had', async () => {
    await change('Dyes');
    const one = page(ida);
    await one.goto(`${studio.url}/sites/threadmill/forecast?from=threadmill/staging&onto=${LIVE}`);
    await one.getByText('Onto live needs 1 approval').waitFor();
    await one.getByRole('button', { name: 'Ask for review' }).click();
    await one.getByLabel('What it is').fill('The page on dyes <b>bold</b>');
    await one.getByLabel('Reviewer').selectOption({ label: 'Lise Aune' });
    await sound(one);
    await one.getByRole('button', { name: 'Ask for review' }).click();
    await one.getByText('in review').first().waitFor();
    path = new URL(one.url()).pathname;
    // What people write is text, in titles too.
    expect(await one.locator('h1 b').count()).toBe(0);
    await sound(one);
    // The map of the site shows it over the lane that it takes.
    await one.goto(`${studio.url}/sites/threadmill?at=staging`);
    await one.getByLabel('Environments').getByRole('link', { name: 'in review' }).waitFor();
    await sound(one);
    await one.getByLabel('Environments').getByRole('link', { name: 'in review' }).click();
    await one.waitForURL(`${studio.url}${path}`);
  });

  it('is found by the reviewer from a mail, who comments on a field and sends it back', async () => {
    const one = page(lise);
    expect(await mailTo('Lise Aune', 'Review wanted', path)).toContain(`${studio.url}${path}`);
    await one.goto(`${studio.url}/requests?view=waiting`);
    await one.getByRole('link', { name: 'The page on dyes' }).click();
    await one.getByRole('button', { name: /How we dye|Dyes/ }).click();
    await one.getByRole('button', { name: 'Comment on Title' }).click();
    await one
      .getByLabel('Comment on Title')
      .last()
      .fill('Say **what** is dyed. <img src=x onerror=alert(1)> [here](javascript:alert(1))');
    await one.getByRole('button', { name: 'Comment', exact: true }).first().click();
    await one.locator('.markdown strong', { hasText: 'what' }).waitFor();
    expect(await one.locator('.markdown img, .markdown a').count()).toBe(0);
    await one.getByRole('button', { name: 'Mark as seen' }).click();
    await one.getByRole('button', { name: 'Seen', exact: false }).first().waitFor();
    await sound(one);
    await one.getByPlaceholder(/Words to go with it/).fill('The title is too short.');
    await one.getByRole('button', { name: 'Send back' }).click();
    await one.getByText('returned').first().waitFor();
    await sound(one);
  });

  it('is mended by its author, who hears of it at once, and asked for again', async () => {
    const one = page(ida);
    await one.goto(`${studio.url}${path}`);
    await one.getByText('The title is too short.').first().waitFor();
    await change('Dyes and cloth');
    await one.getByRole('button', { name: 'Look at both sides again' }).click();
    await one.getByText('revision 2').first().waitFor();
    await one
      .getByRole('button', { name: /Dyes and cloth|How we dye/ })
      .first()
      .click();
    await one.getByText('as it is since revision 2').waitFor();
    await one.getByRole('button', { name: 'Reply' }).click();
    await one.getByLabel('Reply').fill('Better?');
    await one.getByRole('button', { name: 'Reply' }).last().click();
    await one.getByText('Better?').waitFor();
    await one.getByRole('button', { name: 'Ask for review' }).click();
    await one.getByText('in review').first().waitFor();
    await sound(one);
  });

  it('is shown to a guest, who finds the way from a mail, looks at the preview, comments and says yes', async () => {
    const one = page(ida);
    await one.getByRole('button', { name: 'Make a preview' }).click();
    await one.getByRole('button', { name: 'Open the preview' }).waitFor({ timeout: 60_000 });
    await one.getByRole('button', { name: 'Invite a guest' }).click();
    await one.getByLabel('Name', { exact: true }).fill('Vera Lund');
    await one.getByLabel(/Mail address/).fill('vera.lund@threadmill.example');
    await one.getByLabel('Words to go with it').fill('Is this what you meant?');
    await sound(one);
    await one.getByRole('button', { name: 'Make the link' }).click();
    await one.getByText('The link is mailed.').waitFor();
    await sound(one);

    const letter = (): string => mails.find((mail) => mail.to === 'vera.lund@threadmill.example')?.text ?? '';
    await expect.poll(letter, { timeout: 20_000 }).toContain('asks you to look');
    const vera = await browsing.stranger();
    await vera.goto(/https?:\/\/[^\s<>"]+\/look#[^\s<>"]+/.exec(letter())?.[0] ?? '');
    await vera.getByText('Is this what you meant?').waitFor();
    expect(new URL(vera.url()).hash, 'the key does not stay in the address').toBe('');
    await sound(vera);
    const [preview] = await Promise.all([
      vera.waitForEvent('popup'),
      vera.getByRole('button', { name: 'Open it' }).click(),
    ]);
    await preview.getByText('Cloth that lasts').first().waitFor();
    await preview.goto(new URL('/page/dye', preview.url()).href);
    await preview.getByText('Dyes and cloth').first().waitFor();
    await vera.getByLabel('Write something').fill('Yes! But **when**?');
    await vera.getByRole('button', { name: 'Send' }).click();
    await vera.locator('.markdown strong', { hasText: 'when' }).waitFor();
    await vera.getByRole('button', { name: 'Yes, this may go live' }).click();
    await vera.getByText('You said yes').waitFor();
    await sound(vera);
    await vera.setViewportSize({ width: 360, height: 780 });
    expect(await vera.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);

    await one.getByText('said yes').first().waitFor();
    await one.getByRole('button', { name: 'The request' }).click();
    await one.getByText('guest', { exact: true }).waitFor();
    await one.getByRole('button', { name: 'Reply' }).click();
    await one.getByLabel('Reply').fill('On Sunday.');
    await one.getByRole('button', { name: 'Reply' }).last().click();
    await vera.getByText('On Sunday.').waitFor({ timeout: 30_000 });
    await one.getByRole('button', { name: 'Resolve' }).click();
    await one.getByText('Resolved').first().waitFor();
    await vera.goto(`${studio.url}/requests`);
    await vera.waitForURL(/\/sign-in/);
  });

  it('is approved once the conversation is resolved', async () => {
    const one = page(lise);
    await one.goto(`${studio.url}${path}`);
    await one.getByRole('button', { name: 'Approve 1 item' }).click();
    await one.getByText('approved').first().waitFor();
    await one.getByText('in review').first().waitFor();
    await one
      .getByRole('button', { name: /Dyes and cloth|How we dye/ })
      .first()
      .click();
    await one.getByRole('button', { name: 'Resolve' }).click();
    await one.locator('[data-state="approved"]').waitFor();
    await mailTo('Ida Moe', 'Verdict', path);
  });

  it('is scheduled, taken back, delivered, and undone by operations', async () => {
    const one = page(odd);
    await one.goto(`${studio.url}${path}`);
    await one.getByLabel('Deliver').selectOption('time');
    const soon = new Date(Date.now() + 3 * 3_600_000);
    await one.getByLabel(/Time, in your own zone/).fill(soon.toISOString().slice(0, 16));
    await one.getByLabel(/Onto live/).fill(LIVE);
    await one.getByRole('button', { name: 'Have 1 item written onto live' }).click();
    await one.locator('[data-state="scheduled"]').waitFor();
    await sound(one);
    await one.getByRole('button', { name: 'Take the time back' }).click();
    await one.locator('[data-state="approved"]').waitFor();
    await one.getByLabel('Deliver').selectOption('now');
    await one.getByLabel(/Onto live/).fill(LIVE);
    await one.getByRole('button', { name: 'Write 1 item onto live' }).click();
    await one.locator('[data-state="delivered"]').waitFor({ timeout: 30_000 });
    await mailTo('Ida Moe', 'Live', path);
    await one.getByRole('link', { name: 'Undo' }).click();
    await one.getByText('Onto live needs 1 approval and a yes of 1 guest').waitFor();
    await one.getByRole('button', { name: 'It cannot wait' }).click();
    await one.getByLabel(/Why it cannot wait/).fill('The colour is wrong.');
    await sound(one);
    await one.getByLabel(/Onto live/).fill(LIVE);
    await one
      .getByRole('button', { name: /Take back|onto live/ })
      .last()
      .click();
    await one.waitForURL(/\/transfers\//);
    await ended(studio, { id: new URL(one.url()).pathname.split('/').pop() ?? '' });
    await one.goto(`${studio.url}${path}`);
    await one.locator('[data-state="undone"]').waitFor();
  });

  it('is told in the console too, and a mail’s link ends such mails', async () => {
    const one = page(ida);
    await one.goto(studio.url);
    await one.getByRole('button', { name: /Notices, \d+ new/ }).click();
    await one.getByRole('menuitem', { name: 'All notices' }).click();
    await one.getByText('gave a verdict').first().waitFor();
    await sound(one);
    const link = /https?:\/\/[^\s<>"]+\/stop-mail\/[^\s<>"]+/.exec(await mailTo('Ida Moe', 'Live', path))?.[0] ?? '';
    await one.goto(link);
    await one.getByRole('button', { name: 'No more of these' }).click();
    await one.getByText('No more of these mails come.').waitFor();
    await sound(one);
    await one.goto(`${studio.url}/settings`);
    await one.getByRole('button', { name: 'One by one' }).click();
    await one.getByText('a request is live').waitFor();
    const wish = one.getByLabel('a request is live');
    expect(await wish.inputValue()).toBe('never');
    await sound(one);
  });

  it('finds requests by words, by site and by state', async () => {
    const one = page(odd);
    await one.goto(`${studio.url}/requests?view=all`);
    const rows = one.locator('tbody tr');
    await rows.first().waitFor();
    const all = await rows.count();
    await one.keyboard.press('/');
    await one.keyboard.type('no such words');
    await one.getByText('No change request fits').waitFor();
    await one.getByLabel('Find by title').fill('ida');
    await rows.first().waitFor();
    await one.waitForURL(/find=ida/);
    await one.getByLabel('Find by title').fill('');
    await expect.poll(() => rows.count()).toBe(all);
    await one.getByLabel('State').selectOption('draft');
    await one.getByText('No change request fits').waitFor();
    await one.getByLabel('State').selectOption('delivered');
    const states = () => rows.evaluateAll((found) => [...new Set(found.map((row) => row.children[0]?.textContent))]);
    await expect.poll(states).toEqual(['delivered']);
    await find(one.getByLabel('Site'), 'threadmill');
    await one.waitForURL(/site=threadmill/);
    await rows.first().waitFor();
  });

  it.each(['/requests', '/requests?view=all', '/people', '/windows?at=new'])(
    '%s passes axe, at 360 pixels too',
    async (room) => {
      const one = page(odd);
      await one.goto(`${studio.url}${room}`);
      await one.locator('main h1').waitFor();
      await sound(one);
      await one.setViewportSize({ width: 360, height: 780 });
      expect(await one.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);
      await one.setViewportSize({ width: 1280, height: 800 });
    },
  );
});

describe('what changed on live since', () => {
  beforeEach(begin);

  it('is shown in the request, and what collides is settled there', async () => {
    const author = await signIn(studio, mailOf('Ida Moe'));
    const onto = (path: string, sql: string) => onSite(studio, path, (query) => query(sql));
    await onto(
      'threadmill/staging',
      "UPDATE product SET title = 'Apron, rust', description = 'Three pockets.' WHERE id = 1",
    );
    const { id: forecast } = await forecastOf(studio, 'threadmill/staging', LIVE, { wishes: { only: ['product:*'] } });
    const { id } = await author.call('requestOpen', { body: { forecast, title: 'Rust' } });
    await onto(LIVE, "UPDATE product SET title = 'Apron, olive' WHERE id = 1");
    await onto(LIVE, "UPDATE product SET title = 'Throw of lambswool' WHERE id = 2");
    const one = page(ida);
    await one.goto(`${studio.url}/requests/${id}`);
    await one.getByRole('button', { name: 'Look at both sides again' }).click();
    await one.getByText('1 item to settle').waitFor();
    await one.getByRole('button', { name: /Apron/ }).first().click();
    await sound(one);
    await one.getByRole('button', { name: 'Write another' }).click();
    await one.getByLabel('Another title').fill('Apron, rust and olive');
    await one.getByRole('button', { name: 'Take this' }).click();
    await one.getByText('revision 3').first().waitFor();
    await one.locator('[data-field]', { hasText: 'rust and olive' }).first().waitFor();
    await expect
      .poll(async () => (await author.call('requestShow', { params: { id } })).items[0]?.outcome)
      .toBe('written');
    await sound(one);
    await one.getByRole('link', { name: 'What changed on live since' }).click();
    await one.getByText('Throw of lambswool').first().waitFor();
  });
});

describe('what is said of a request', () => {
  beforeEach(begin);

  it('is written as a draft, edited, and kept from writing over what a colleague wrote meanwhile', async () => {
    const author = await signIn(studio, mailOf('Ida Moe'));
    await onSite(studio, 'threadmill/staging', (query) => query("UPDATE page SET title = 'Ours' WHERE slug = 'home'"));
    const one = page(ida);
    await one.goto(`${studio.url}/sites/threadmill/forecast?from=threadmill/staging&onto=${LIVE}`);
    await one.getByRole('button', { name: 'Ask for review' }).click();
    await one.getByLabel('What it is').fill('About us');
    await one.getByRole('button', { name: 'Keep it as a draft' }).click();
    await one.getByLabel('Title').waitFor();
    const id = new URL(one.url()).pathname.split('/').pop() ?? '';
    const params = { id };
    const now = () => author.call('requestShow', { params });
    expect((await now()).state).toBe('draft');

    await one.getByLabel('Reviewer').selectOption({ label: 'Lise Aune' });
    await one.getByLabel('One more reviewer').selectOption({ label: 'Odd Rye' });
    await one.getByRole('button', { name: 'Take out Odd Rye' }).click();
    await one.getByLabel('More about it').fill('The *new* text.');
    await one.getByLabel('by hand before').fill('Tell the shop\n\n  Count the stock ');
    // Open in the night of each day only, half a day away from now.
    const hour = (from: number): string => `${String((new Date().getUTCHours() + from) % 24).padStart(2, '0')}:00`;
    const windows = (list: { days: number[]; from: string; until: string }[]) =>
      studio.client.call('windowSet', {
        params: { site: 'threadmill' },
        body: { windows: list },
        etag: '*',
      });
    const { moment } = await windows([{ days: [1, 2, 3, 4, 5, 6, 7], from: hour(12), until: hour(14) }]);
    await one.getByLabel('Wanted').selectOption('at a time');
    const local = (time: number): string =>
      new Date(time - new Date(time).getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
    const next = Date.parse(moment.next ?? '');
    await one.getByLabel('Time, in your own zone').fill(local(next - 3_600_000));
    await one.getByText('is then closed, opens').waitFor();
    await one.getByLabel('Time, in your own zone').fill(local(next + 60_000));
    await one.getByText('is then open until').waitFor();
    await one.getByLabel('Wanted').selectOption('in the next window');
    await one.getByText('is now closed, opens').waitFor();
    await sound(one);
    await one.getByRole('button', { name: 'Keep this' }).click();
    await one.locator('.markdown em', { hasText: 'new' }).waitFor();
    await one.getByText('Wanted in the next window: closed, opens').waitFor();
    await windows([]);
    const first = await now();
    expect(first).toMatchObject({ title: 'About us', description: 'The *new* text.', wantedFor: 'window' });
    expect(first.steps.map((step) => [step.phase, step.text])).toEqual([
      ['before', 'Tell the shop'],
      ['before', 'Count the stock'],
    ]);
    expect(first.reviewers.map((reviewer) => reviewer.person?.name)).toEqual(['Lise Aune']);

    await one.getByRole('button', { name: 'Edit', exact: true }).click();
    await one.getByLabel('Title').fill('About us, in our words');
    await studio.client.call('requestEdit', { params, body: { title: 'About the mill' }, etag: first.etag });
    await one.getByRole('button', { name: 'Keep this' }).click();
    await one.getByRole('alert').getByText('About the mill').waitFor();
    expect(await one.getByLabel('Title').inputValue()).toBe('About us, in our words');
    expect((await now()).title).toBe('About the mill');
    await sound(one);
    await one.getByRole('button', { name: 'Write mine over it' }).click();
    await one.locator('h1', { hasText: 'About us, in our words' }).waitFor();
    expect(await one.getByText('changed what is said of it').count()).toBe(3);
  });
});

describe('a line of a file', () => {
  beforeEach(begin);

  it('is shown beside what it was, and talked about', async () => {
    const author = await signIn(studio, mailOf('Ida Moe'));
    const template = join(folderOf(studio, 'threadmill/staging'), 'main/templates/page.html');
    const before = await readFile(template, 'utf8');
    const lines = before.split('\n');
    await writeFile(
      template,
      [lines[0], '<p class="new">An <img src=x onerror=alert(1)> line</p>', ...lines.slice(1)].join('\n'),
    );
    const { id: forecast } = await forecastOf(studio, 'threadmill/staging', LIVE, { wishes: { only: ['template:*'] } });
    const { id } = await author.call('requestOpen', { body: { forecast, title: 'A template' } });
    const one = page(ida);
    await one.goto(`${studio.url}/requests/${id}`);
    await one.getByRole('button', { name: /templates\/page.html/ }).click();
    await one.getByText('<p class="new">An <img src=x onerror=alert(1)> line</p>').waitFor();
    await one.getByRole('button', { name: 'Comment on line 2' }).click();
    await one.getByLabel('Comment on line 2').last().fill('Is this **wanted**?');
    await one.getByRole('button', { name: 'Comment', exact: true }).first().click();
    await one.locator('[data-line] strong', { hasText: 'wanted' }).waitFor();
    await sound(one);
    const { threads } = await author.call('requestShow', { params: { id } });
    expect(threads).toMatchObject([{ field: 'line 2', comments: [{ text: 'Is this **wanted**?' }] }]);

    // The line goes, and what was said of it stays readable.
    await writeFile(template, `${before}<!-- another end -->\n`);
    await one.getByRole('button', { name: 'Look at both sides again' }).click();
    await one.getByText('revision 2').first().waitFor();
    await one.getByText('line 2, which is not among these now').waitFor();
    await one.locator('[data-elsewhere] strong', { hasText: 'wanted' }).waitFor();
  });
});

describe('what is mailed once a day', () => {
  beforeEach(begin);

  it('comes in one mail that names each thing with its link, and ends with the link in it', async () => {
    const reviewer = await signIn(studio, mailOf('Lise Aune'));
    await reviewer.call('noticeWish', { params: { kind: 'review-asked' }, body: { mail: 'daily' } });
    const me = await reviewer.call('me');
    const author = await signIn(studio, mailOf('Ida Moe'));
    const opened: string[] = [];
    const titles = ['The first of today', 'The second of today'];
    for (const [i, title] of titles.entries()) {
      await onSite(studio, 'threadmill/staging', (query) =>
        query(`UPDATE page SET title = title || '.' WHERE id = ${i + 1}`),
      );
      const only = [`page:${i + 1}`];
      const { id: forecast } = await forecastOf(studio, 'threadmill/staging', LIVE, { wishes: { only } });
      const { id } = await author.call('requestOpen', { body: { forecast, title, reviewers: [{ person: me.id }] } });
      await author.call('requestAsk', { params: { id } });
      opened.push(id);
    }
    const ofLise = (): string[] => mails.filter((one) => one.to === me.mail).map((one) => one.text);
    const before = ofLise().length;
    // What is mailed at once comes after what is due together in the same round of the mails.
    await reviewer.call('commentAdd', { params: { id: opened.at(-1) ?? '' }, body: { text: 'Is that all?' } });
    await expect.poll(() => mails.some((mail) => mail.text.includes('Is that all?')), { timeout: 20_000 }).toBe(true);
    expect(ofLise(), 'nothing comes before its time').toHaveLength(before);
    const due = async (): Promise<string[]> =>
      (await onRecords(studio, 'SELECT DISTINCT mail_due_at FROM notice WHERE is_digest')).map((row) =>
        new Date(String(row.mail_due_at)).toISOString().slice(11, 16),
      );
    expect(await due()).toEqual(['06:00']);
    expect(await reviewer.call('digestTime')).toEqual({ at: '06:00', zone: 'UTC' });
    const own = { at: '23:45', zone: 'Asia/Kathmandu' };
    expect(await reviewer.call('digestTimeSet', { body: own })).toEqual(own);
    expect(await due(), 'what waits comes at the new time').toEqual(['18:00']);
    expect(await reviewer.call('digestTime')).toEqual(own);
    for (const wrong of [{ at: '25:00' }, { zone: 'Europe/Nowhere' }])
      expect(await refusal(reviewer.call('digestTimeSet', { body: { ...own, ...wrong } }))).toBe('invalid');
    await onRecords(studio, "UPDATE notice SET mail_due_at = now() - interval '1 minute' WHERE is_digest");
    await expect.poll(() => ofLise().length, { timeout: 20_000 }).toBe(before + 1);
    const text = ofLise().at(-1) ?? '';
    expect(text).toContain('2 things happened');
    for (const title of titles) expect(text).toContain(`Review wanted: ${title}`);
    expect(text.match(/\/requests\/q-/g)?.length).toBeGreaterThanOrEqual(2);

    const one = await browsing.stranger();
    await one.goto(/https?:\/\/[^\s<>"]+\/stop-mail\/[^\s<>"]+/.exec(text)?.[0] ?? '');
    await one.getByRole('button', { name: 'No more of these' }).click();
    await one.getByText('No more of these mails come.').waitFor();
    expect((await reviewer.call('noticeWishes'))['review-asked']).toBe('never');
    await reviewer.call('noticeWish', { params: { kind: 'review-asked' }, body: { mail: 'now' } });
  });
});

describe('a mail server that is down', () => {
  beforeEach(begin);

  it('loses nothing: what it did not take is sent when it is back, once', async () => {
    isDown = true;
    const before = mails.length;
    await change('Dyes, wool and cloth');
    const author = await newcomer(studio, 'sanna.hult@copperlane.example', 'editor', 'threadmill', 'Sanna Hult');
    const made = await author.call('forecastCreate', { body: { from: 'threadmill/staging', onto: LIVE } });
    await expect
      .poll(async () => (await author.call('forecastShow', { params: { id: made.id } })).state, { timeout: 20_000 })
      .toBe('ready');
    const reviewer = (await author.call('personList')).find((one) => one.mail === mailOf('Lise Aune'))?.id ?? '';
    const { id } = await author.call('requestOpen', {
      body: { forecast: made.id, title: 'While it was down', reviewers: [{ person: reviewer }] },
    });
    await author.call('requestAsk', { params: { id } });
    const tries = async (): Promise<number> => {
      const [row] = await onRecords(studio, 'SELECT max(mail_tries)::int AS tries FROM notice WHERE mailed_at IS NULL');
      return Number(row?.tries ?? 0);
    };
    await expect.poll(tries, { timeout: 20_000 }).toBe(1);
    expect(mails.length).toBe(before);
    isDown = false;
    await onRecords(
      studio,
      'UPDATE notice SET mail_due_at = now() WHERE mailed_at IS NULL AND mail_due_at IS NOT NULL',
    );
    await expect
      .poll(() => mails.filter((one) => one.text.includes('While it was down')).length, { timeout: 20_000 })
      .toBe(1);
    await expect
      .poll(
        async () =>
          (await onRecords(studio, 'SELECT FROM notice WHERE mailed_at IS NULL AND mail_due_at IS NOT NULL')).length,
      )
      .toBe(0);
    expect(mails.filter((one) => one.text.includes('While it was down'))).toHaveLength(1);
  });

  it('keeps invitations, sealed, until it is back, and forgets them then', async () => {
    isDown = true;
    const { key, isMailed } = await studio.client.call('personInvite', {
      body: { name: 'Bror Ness', mail: 'bror.ness@copperlane.example', role: 'observer', scope: 'threadmill' },
    });
    expect(isMailed).toBe(true);
    const letters = () => onRecords(studio, 'SELECT content, tries, problem FROM letter');
    await expect.poll(async () => (await letters())[0]?.tries, { timeout: 20_000 }).toBe(1);
    const [row] = await letters();
    expect(String(row?.problem)).toContain('not at the moment');
    expect(String(row?.content)).not.toContain(key);
    isDown = false;
    await onRecords(studio, 'UPDATE letter SET due_at = now()');
    const invitation = (): string[] =>
      mails.filter((one) => one.to === 'bror.ness@copperlane.example').map((one) => one.text);
    await expect.poll(() => invitation().length, { timeout: 20_000 }).toBe(1);
    expect(invitation()[0]).toContain(`/invitation#${key}`);
    await expect.poll(letters).toEqual([]);
  });
});
