import { Client } from '@tessarion/client';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing, find } from './support/browsing.js';
import { newcomer, refusal, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
const params = { site: 'threadmill' };

beforeAll(async () => {
  studio = await startStudio('live');
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
}, 120_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const sound = async (): Promise<void> => expect(await browsing.faults(page)).toEqual([]);
const button = (name: string | RegExp) => page.getByRole('button', { name, exact: typeof name === 'string' });
const inAside = (text: string) => page.getByRole('complementary', { name: 'More' }).getByText(text);
/** No room is wider than a telephone's screen. */
const fits = async (): Promise<void> => {
  await page.setViewportSize({ width: 360, height: 780 });
  expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);
  await page.setViewportSize({ width: 1280, height: 800 });
};

describe('people and access', () => {
  it('a role is made of permissions, changed for all who have it, and removed when nobody has it', async () => {
    await page.goto(`${studio.url}/people`);
    await button('Make a role').click();
    await page.getByLabel('Name, as commands write it').fill('auditor');
    await page.getByLabel('Title').fill('Auditor');
    await page.getByLabel(/read, export and verify the journal/).check();
    await sound();
    await fits();
    await button('Make this role').click();
    await inAside('Change it for all who have it').waitFor();
    const role = async () => (await studio.client.call('roleList')).find((one) => one.name === 'auditor');
    expect(await role()).toMatchObject({ title: 'Auditor', permissions: ['site.read', 'journal.read'] });

    const client = await newcomer(studio, 'tora.lie@copperlane.example', 'auditor', 'everything', 'Tora Lie');
    await button('Remove it').click();
    await page.getByRole('dialog').getByRole('button', { name: 'Remove it' }).click();
    await page.getByRole('alert').getByText('Somebody has the role auditor').waitFor();
    await page.getByLabel(/read, export and verify the journal/).uncheck();
    await button('Change it for all who have it').click();
    await button('Make a role').waitFor();
    expect((await role())?.permissions).toEqual(['site.read']);
    expect(await refusal(client.call('journalList'))).toBe('not-allowed');

    await button('Administrator').click();
    await inAside('Every installation has this role').waitFor();
    await sound();
  });

  it('a team is made, given a role, and filled; somebody quicker is not written over', async () => {
    const { id } = await (
      await newcomer(studio, 'eli.vik@copperlane.example', 'observer', 'threadmill', 'Eli Vik')
    ).call('me');
    await page.goto(`${studio.url}/people`);
    await button('Make a team').click();
    await page.getByLabel('Name, as commands write it').fill('legal');
    await page.getByLabel('Title').fill('Legal');
    await page.getByLabel('Member').selectOption('Eli Vik');
    await sound();
    await button('Make this team').click();
    await inAside('Nothing was given to it.').waitFor();
    await page.getByLabel('Role').selectOption('Reviewer');
    await find(page.getByRole('complementary', { name: 'More' }).getByLabel(/^For/), 'threadmill');
    await button('Give this role').click();
    await page.getByRole('listitem').filter({ hasText: 'reviewer for threadmill' }).waitFor();
    await sound();
    await fits();
    const team = async () => (await studio.client.call('teamList')).find((one) => one.name === 'legal');
    expect(await team()).toMatchObject({
      members: [{ id }],
      roles: [{ role: 'reviewer', scope: 'threadmill' }],
    });

    await page.getByLabel('Title').fill('Lawyers');
    const body = { title: 'Legal department', members: [id] };
    await studio.client.call('teamSave', { params: { name: 'legal' }, body, etag: '*' });
    await button('Take out Eli Vik').click();
    await button('Keep it so').click();
    await page.getByRole('alert').getByText('Somebody was quicker').waitFor();
    expect((await team())?.title).toBe('Legal department');
    await button('Write mine over it').click();
    await button('Make a team').waitFor();
    expect(await team()).toMatchObject({ title: 'Lawyers', members: [] });

    await button('Lawyers').click();
    await button('Remove it').click();
    await page.getByRole('dialog').getByText('What was given to it ends').waitFor();
    await page.getByRole('dialog').getByRole('button', { name: 'Remove it' }).click();
    await button('Make a team').waitFor();
    expect(await team()).toBeUndefined();
  });

  it('somebody who left is erased once their address is typed in full', async () => {
    const mail = 'runa.dahl@copperlane.example';
    await newcomer(studio, mail, 'editor', 'everything', 'Runa Dahl');
    await page.goto(`${studio.url}/people`);
    await button('Runa Dahl').click();
    await button('They lost their second factor').click();
    await page.getByRole('dialog').getByRole('button', { name: 'Take it away' }).click();
    await page
      .getByRole('complementary', { name: 'More' })
      .getByText(/second factor|password alone/)
      .last()
      .waitFor();
    await button('End their access').click();
    await page.getByRole('dialog').getByRole('button', { name: 'End their access' }).click();
    await button('Erase their name').click();
    const erase = page.getByRole('dialog').getByRole('button', { name: 'Erase it for good' });
    expect(await erase.isDisabled()).toBe(true);
    await page.getByRole('dialog').getByLabel(`Type ${mail}`).fill(mail);
    await sound();
    await erase.click();
    await page.getByRole('heading', { name: 'Somebody who left' }).waitFor();
    expect(JSON.stringify(await studio.client.call('personList'))).not.toContain('Runa');
  });

  it('a token is made for what it is for, shown once, and ended', async () => {
    await page.goto(`${studio.url}/settings`);
    await button('Make a token').click();
    await page.getByLabel('What it is for').fill('a screen on the wall');
    await find(page.getByRole('form', { name: 'A new token' }).getByLabel(/^For/), 'threadmill');
    await page.getByLabel('May do').selectOption('only what I choose');
    await sound();
    await fits();
    await button('Make it').click();
    const value = await page.getByLabel('Token', { exact: true }).inputValue();
    const wall = new Client({ url: studio.url, token: value });
    expect((await wall.call('siteList')).map((one) => one.name)).toEqual(['threadmill']);
    expect(await refusal(wall.call('snapshotTake', { body: { environment: 'threadmill/live' } }))).toBe('not-allowed');
    await button('I have it').click();
    const row = page.getByRole('listitem').filter({ hasText: 'a screen on the wall' });
    await row.getByText('site.read for threadmill, until').waitFor();
    expect(await page.content()).not.toContain(value);
    await row.getByRole('button', { name: 'End it' }).click();
    await row.waitFor({ state: 'detached' });
    expect(await refusal(wall.call('siteList'))).toBe('not-signed-in');
  });
});

describe('what holds for deliveries', () => {
  it('a lane is told what it asks for, in the room of its site', async () => {
    await studio.client.call('teamSave', {
      params: { name: 'shop' },
      body: { title: 'The shop', members: [] },
      etag: null,
    });
    await page.goto(`${studio.url}/sites/threadmill`);
    await button('Change what goes onto live needs').click();
    await page.getByLabel('Approvals').selectOption('2');
    await page.getByLabel('Yes of guests').selectOption('1');
    await page.getByLabel(/^Team/).selectOption('The shop');
    await page.getByLabel('Open threads keep it from going').check();
    await sound();
    await fits();
    await button('Keep it so').click();
    await page.locator('p', { hasText: 'onto live: 2 approvals' }).waitFor();
    const rules = await studio.client.call('laneList', { params });
    expect(rules.find((one) => one.onto === 'live')).toMatchObject({
      approvals: 2,
      guests: 1,
      teams: ['shop'],
      threadsBlock: true,
    });
    await page.locator('p', { hasText: 'onto staging: nothing' }).waitFor();
  });

  it('a freeze comes each year, for all sites of a client', async () => {
    await page.goto(`${studio.url}/windows?at=new`);
    await find(page.getByRole('complementary', { name: 'More' }).getByLabel(/^For/), 'all of Threadmill & Daughters');
    await page.getByLabel('Reason').fill('Christmas trade');
    await page.getByLabel('How often').selectOption('each year');
    await page.getByLabel('From this day').fill('2026-12-20');
    await page.getByLabel('Up to and with').fill('2027-01-02');
    await sound();
    await button('Freeze all of Threadmill & Daughters').click();
    await page.getByText('It holds from now on.').waitFor();
    expect(await studio.client.call('freezeList')).toMatchObject([
      {
        reason: 'Christmas trade',
        scope: 'client:Threadmill & Daughters',
        time: { repeats: 'yearly', from: '12-20', until: '01-02' },
      },
    ]);
  });

  it('a window more leaves those that are there', async () => {
    const windows = [{ days: [7], from: '22:00', until: '23:00' }];
    await studio.client.call('windowSet', { params, body: { windows }, etag: '*' });
    await page.goto(`${studio.url}/windows?at=new`);
    await find(page.getByRole('complementary', { name: 'More' }).getByLabel(/^For/), 'threadmill');
    await button('Add this window').first().click();
    await page.getByText('It holds from now on.').waitFor();
    const plan = await studio.client.call('deliveryPlan', { params });
    expect(plan.windows).toEqual([...windows, { days: [1, 2, 3, 4], from: '22:00', until: '02:00' }]);
  });
});
