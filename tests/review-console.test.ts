import type { AddressInfo } from 'node:net';
import type { Page } from 'playwright-core';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { addSite, ended, makeCopy, newcomer, onRecords, onSite, type Studio, startStudio } from './support/studio.js';

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
let browsing: Browsing;
let [ida, lise, odd]: Page[] = [];

beforeAll(async () => {
  await new Promise<void>((resolve) => sink.listen(0, '127.0.0.1', resolve));
  const { port } = sink.server.address() as AddressInfo;
  studio = await startStudio([], {
    TESSARION_SMTP_URL: `smtp://127.0.0.1:${port}`,
    TESSARION_MAIL_FROM: 'Tessarion <tessarion@copperlane.example>',
  });
  await addSite(studio);
  await makeCopy(studio, 'threadmill', 'staging');
  await studio.client.call('laneRule', {
    params: { site: 'threadmill', onto: 'live' },
    body: { approvals: 1, teams: [], threadsBlock: true },
  });
  for (const [name, role] of [
    ['Ida Moe', 'editor'],
    ['Lise Aune', 'reviewer'],
    ['Odd Rye', 'operations'],
  ] as const)
    await newcomer(studio, mailOf(name), role, 'threadmill', name);
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
const mailTo = async (name: string, head: string): Promise<string> => {
  await expect
    .poll(() => mails.some((one) => one.to === mailOf(name) && one.text.includes(`Subject: ${head}`)), {
      timeout: 20_000,
    })
    .toBe(true);
  return mails.find((one) => one.to === mailOf(name) && one.text.includes(`Subject: ${head}`))?.text ?? '';
};

describe('a change on its way to live, by three people', () => {
  let path = '';

  it('is asked for from the forecast, where a plain push is not to be had', async () => {
    await change('Dyes');
    const one = page(ida);
    await one.goto(`${studio.url}/sites/threadmill/forecast?from=threadmill/staging&onto=${LIVE}`);
    await one.getByText('Onto live needs 1 approval').waitFor();
    await one.getByLabel('What it is').fill('The page on dyes <b>bold</b>');
    await one.getByLabel('Reviewer').selectOption({ label: 'Lise Aune' });
    await sound(one);
    await one.getByRole('button', { name: 'Ask for review' }).click();
    await one.getByText('in review').first().waitFor();
    path = new URL(one.url()).pathname;
    // What people write is text, in titles too.
    expect(await one.locator('h1 b').count()).toBe(0);
    await sound(one);
  });

  it('is found by the reviewer from a mail, who comments on a field and sends it back', async () => {
    const one = page(lise);
    const mail = await mailTo('Lise Aune', 'Review wanted');
    expect(mail).toContain(`${studio.url}${path}`);
    await one.goto(`${studio.url}/requests?view=waiting`);
    await one.getByRole('link', { name: 'The page on dyes' }).click();
    await one.getByRole('button', { name: /How we dye|Dyes/ }).click();
    await one.getByRole('button', { name: 'Comment on title' }).click();
    await one
      .getByLabel('Comment on title')
      .last()
      .fill('Say **what** is dyed. <img src=x onerror=alert(1)> [here](javascript:alert(1))');
    await one.getByRole('button', { name: 'Comment', exact: true }).first().click();
    await one.locator('.md strong', { hasText: 'what' }).waitFor();
    expect(await one.locator('.md img, .md a').count()).toBe(0);
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
    await one.getByRole('button', { name: 'Look again' }).click();
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
    await one.locator('.state-line', { hasText: 'approved' }).waitFor();
    await mailTo('Ida Moe', 'Verdict');
  });

  it('is scheduled, taken back, delivered, and undone by operations', async () => {
    const one = page(odd);
    await one.goto(`${studio.url}${path}`);
    await one.getByLabel('Deliver').selectOption('time');
    const soon = new Date(Date.now() + 3 * 3_600_000);
    await one.getByLabel(/Time, in your own zone/).fill(soon.toISOString().slice(0, 16));
    await one.getByLabel(/Onto live/).fill(LIVE);
    await one.getByRole('button', { name: 'Have 1 item written onto live' }).click();
    await one.locator('.state-line', { hasText: 'scheduled' }).waitFor();
    await sound(one);
    await one.getByRole('button', { name: 'Take the time back' }).click();
    await one.locator('.state-line', { hasText: 'approved' }).waitFor();
    await one.getByLabel('Deliver').selectOption('now');
    await one.getByLabel(/Onto live/).fill(LIVE);
    await one.getByRole('button', { name: 'Write 1 item onto live' }).click();
    await one.locator('.state-line', { hasText: 'delivered' }).waitFor({ timeout: 30_000 });
    await mailTo('Ida Moe', 'Live');
    await one.getByRole('link', { name: 'Undo' }).click();
    await one.getByLabel(/Onto live/).fill(LIVE);
    await one
      .getByRole('button', { name: /Take back|onto live/ })
      .last()
      .click();
    await one.waitForURL(/\/transfers\//);
    await ended(studio, { id: new URL(one.url()).pathname.split('/').pop() ?? '' });
    await one.goto(`${studio.url}${path}`);
    await one.locator('.state-line', { hasText: 'undone' }).waitFor();
  });

  it('is told in the console too, and a mail’s link ends such mails', async () => {
    const one = page(ida);
    await one.goto(studio.url);
    await one.getByRole('button', { name: /Notices, \d+ new/ }).click();
    await one.getByText('gave a verdict').first().waitFor();
    await sound(one);
    const link = /https?:\/\/[^\s<>"]+\/stop-mail\/[^\s<>"]+/.exec(await mailTo('Ida Moe', 'Live'))?.[0] ?? '';
    await one.goto(link);
    await one.getByRole('button', { name: 'No more of these' }).click();
    await one.getByText('No more of these mails come.').waitFor();
    await sound(one);
    await one.goto(`${studio.url}/settings`);
    await one.getByText('a request is live').waitFor();
    expect(await one.getByLabel('a request is live').isChecked()).toBe(false);
    await sound(one);
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

describe('a mail server that is down', () => {
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
});
