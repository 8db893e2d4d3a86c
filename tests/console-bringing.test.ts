import { mkdir, readdir, readFile, rename, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { install } from '@tessarion/demo';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing, find } from './support/browsing.js';
import {
  done,
  folderOf,
  makeCopy,
  newcomer,
  pushOnto,
  refusal,
  SHOP,
  type Studio,
  startStudio,
  tessarion,
} from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;

beforeAll(async () => {
  studio = await startStudio();
  for (const name of ['harbour-2', 'harbour-3', 'harbour-4']) await mkdir(join(studio.data, name));
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
}, 120_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

/** A room has no faults, in the dark too, and is no wider than a telephone's screen. */
async function sound(): Promise<void> {
  expect(await browsing.faults(page)).toEqual([]);
  await page.setViewportSize({ width: 360, height: 780 });
  expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);
  await page.setViewportSize({ width: 1280, height: 800 });
}

const press = (name: string | RegExp): Promise<void> => page.getByRole('button', { name }).click();

describe('servers, sites and profiles in the console, step by step', { shuffle: false }, () => {
  describe('a server', () => {
    const login = () => page.getByRole('group', { name: 'Database server' });
    const fillIn = async (name: string, password: string): Promise<void> => {
      const { server } = studio;
      await page.getByLabel('Name, as commands write it').fill(name);
      await page.getByLabel('Folder below which files lie').fill(join(studio.data, name));
      await page.getByLabel('Domain below which copies are reached').fill(`${name}.localhost`);
      await page.getByRole('group', { name: 'Web server' }).getByLabel('Port').fill(String(studio.place.webHostPort));
      await login().getByLabel('Port').fill(String(server.port));
      await login().getByLabel('User').fill(server.user);
      await login().getByLabel('Password').fill(password);
    };

    it('is added once its login is one that may make databases, and shown with what it has', async () => {
      await page.goto(`${studio.url}/settings`);
      await page.getByRole('link', { name: 'Servers' }).click();
      await page.getByText('harbour-1').waitFor();
      await press('Add a server');
      await fillIn('harbour-2', 'not the password');
      await sound();
      await press('Add this server');
      await page.getByRole('alert').getByText('refused').waitFor();
      expect(await login().getByLabel('User').inputValue(), 'what was typed stays').toBe(studio.server.user);
      await login().getByLabel('Password').fill(studio.server.password);
      await press('Add this server');
      await page.getByRole('complementary', { name: 'More' }).getByText('Nothing lives here yet.').waitFor();
      const servers = await studio.client.call('serverList');
      expect(servers.find((one) => one.name === 'harbour-2')).toMatchObject({
        reached: true,
        baseDomain: 'harbour-2.localhost',
      });
      expect(await readdir(join(studio.data, 'harbour-2'))).toEqual([]);
      await sound();
    });

    it('is added on the command line too, and not by a login that may make nothing', async () => {
      const { host, port, user, password } = studio.server;
      const add = (name: string, database: string, webHost = `127.0.0.1:${studio.place.webHostPort}`) =>
        tessarion(studio, [
          ...['server', 'add', name, '--folder', join(studio.data, name), '--base-domain', 'more.localhost'],
          ...['--web-host', webHost, '--database', database],
        ]);
      const whole = `postgresql://${user}:${encodeURIComponent(password)}@${host}:${port}`;
      expect((await add('harbour-3', whole)).out).toContain('harbour-3 is added');
      expect((await add('harbour-3', whole)).err).toContain('There is a server harbour-3 already.');
      expect((await add('harbour-nosuch', whole)).err).toContain(
        `There is no folder ${join(studio.data, 'harbour-nosuch')}.`,
      );
      expect(await readdir(studio.data)).not.toContain('harbour-nosuch');
      expect((await add('harbour-4', whole, '127.0.0.1:1')).err).toContain('No web server answers at 127.0.0.1:1');
      expect(await add('harbour-4', 'sqlite://x')).toMatchObject({ code: 2 });
      expect(await add('harbour-4', whole, 'nowhere')).toMatchObject({ code: 2 });
      expect(await add('harbour-4', `postgresql://x:y@${host}:1`)).toMatchObject({ code: 1 });
      const { databases } = await install(studio.place, { ...SHOP, name: 'mere' });
      const [{ user: mere, password: own } = { user: '', password: '' }] = databases;
      const refused = await add('harbour-4', `postgresql://${mere}:${own}@${host}:${port}`);
      expect(refused.err).toContain(`${mere} may not make databases and roles`);
      expect((await studio.client.call('serverList')).map((one) => one.name)).toEqual([
        'harbour-1',
        'harbour-2',
        'harbour-3',
      ]);
    });
  });

  describe('a running site', () => {
    it('is brought in, and its tiles lie in the fleet', async () => {
      const { name, client, folder, addresses, databases } = await install(studio.place, SHOP);
      const [{ url } = { url: '' }] = addresses;
      const [login] = databases;
      await page.goto(studio.url);
      await page.getByText('No sites yet').waitFor();
      await page.getByRole('link', { name: 'Bring in a site' }).click();
      await page.getByRole('heading', { name: 'Bring in a site' }).waitFor();
      await page.getByLabel('Name, as commands write it').fill(name);
      await page.getByLabel('Client, whom it belongs to').fill(client);
      await page.getByLabel('Address').fill(`${url}/`);
      await page.getByLabel('Profile, which says').selectOption('quayside');
      await find(page.getByLabel('Time zone'), 'Europe/Oslo');
      await page.getByLabel('Folder that holds its root').fill(folder);
      await page.getByLabel('Port', { exact: true }).fill(String(login?.port));
      await page.getByLabel('Database', { exact: true }).fill(login?.database ?? '');
      await page.getByLabel('User').fill(login?.user ?? '');
      await page.getByLabel('Password').fill('not the password');
      await sound();
      await press('Bring threadmill in');
      await page.getByRole('alert').getByText('refused').waitFor();
      await page.getByLabel('Password').fill(login?.password ?? '');
      await press('Only look at it');
      const moves = page.getByRole('list', { name: 'What would be moved' });
      await moves.getByText('becomes a link to').first().waitFor();
      expect(await moves.getByRole('listitem').first().textContent()).toBe('main moves to trees/main-…');
      await sound();
      await press('Bring threadmill in');
      await page.waitForURL(/transfers\/t-/);
      await page.getByText('done').first().waitFor();
      expect(await studio.client.call('siteShow', { params: { site: name } })).toMatchObject({
        client,
        profile: 'quayside',
        timeZone: 'Europe/Oslo',
        environments: [{ kind: 'live', addresses: [{ name: 'main', url }] }],
      });
      await page.goto(studio.url);
      await page.getByRole('link', { name: 'Bring in a site' }).waitFor();
      await page.getByText(client).first().waitFor();
    });

    it('that cannot be brought in says why, also afterwards; its root may have any name', async () => {
      const { name, client, folder, addresses, databases } = await install(studio.place, { ...SHOP, name: 'wherry' });
      const [login] = databases;
      await rename(join(folder, 'main'), join(folder, 'public_html'));
      const adopt = (...more: string[]) =>
        tessarion(studio, [
          ...['site', 'adopt', name, '--client', client, '--server', 'harbour-1', '--folder', folder],
          ...['--address', addresses[0]?.url ?? '', '--profile', 'quayside', ...more, '--database'],
          `postgresql://${login?.user}:${login?.password}@${login?.host}:${login?.port}/${login?.database}`,
        ]);
      const failed = await adopt();
      // A long path breaks the lines.
      const said = failed.err.replaceAll(/\s+/g, ' ');
      expect(said).toContain(`There is no folder ${folder}/main on the server.`);
      expect(said).toContain('--root NAME: public_html');
      const id = /t-\w{10}/.exec(failed.err)?.[0] ?? '';
      expect((await tessarion(studio, ['transfer', 'show', id])).out).toContain('There is no folder');
      const odd = await newcomer(studio, 'siv.dahl@copperlane.example', 'observer', 'threadmill');
      expect(await refusal(odd.call('transferShow', { params: { id } }))).toBe('not-found');
      expect(await readdir(folder), 'nothing of it was changed').toEqual(['public_html']);

      expect((await adopt('--root', 'public_html')).out).toContain('Done');
      const shown = await studio.client.call('environmentShow', { params: { site: name, environment: 'live' } });
      expect(shown.roots).toEqual([{ name: 'public_html', path: `${folder}/public_html`, isPlain: false }]);
      await makeCopy(studio, name, 'staging');
      await writeFile(join(folderOf(studio, `${name}/staging`), 'public_html/new.txt'), 'new');
      await done(studio, await pushOnto(studio, `${name}/staging`, `${name}/live`));
      expect(await readFile(join(folder, 'public_html/new.txt'), 'utf8')).toBe('new');
    });

    it('is brought in by nobody who may not', async () => {
      await newcomer(studio, 'odd.rye@copperlane.example', 'developer', 'threadmill', 'Odd Rye');
      const other = await browsing.signedIn('odd.rye@copperlane.example');
      await other.getByText(SHOP.client).first().waitFor();
      expect(await other.getByRole('link', { name: 'Bring in a site' }).count()).toBe(0);
      await other.goto(`${studio.url}/servers`);
      await other.getByRole('alert').first().waitFor();
      expect(await other.getByRole('button', { name: 'Add a server' }).count()).toBe(0);
      await other.goto(`${studio.url}/profiles?write=new`);
      await other.getByText('version 1').first().waitFor();
      expect(await other.getByLabel('Document').count()).toBe(1);
      expect(await other.getByRole('textbox').count()).toBe(0);
      await other.close();
    });
  });

  describe('a profile', () => {
    const document = () => page.getByRole('textbox', { name: 'Document' });

    it('is written with each mistake named as one types, and saved', async () => {
      await page.goto(`${studio.url}/profiles`);
      await page.getByRole('link', { name: 'New' }).click();
      const first = await document().inputValue();
      await document().fill(first.replace('my-kind', 'loom').replace('class: authored', 'class: borrowed'));
      const mistake = page.getByRole('list', { name: 'Mistakes' });
      await mistake.getByText('areas').first().waitFor();
      expect(await page.getByRole('button', { name: 'Save it as loom' }).isDisabled()).toBe(true);
      await mistake.getByRole('button', { name: 'line 6' }).click();
      const chosen = () =>
        document().evaluate((field: HTMLTextAreaElement) =>
          field.value.slice(field.selectionStart, field.selectionEnd),
        );
      expect(await chosen()).toContain('class: borrowed');
      await sound();
      await document().fill(first.replace('my-kind', 'loom'));
      await press('Save it as loom');
      await page.waitForURL(/profiles\/loom/);
      await page.getByText('version 1, saved').waitFor();
      await sound();
    });

    it('gets a new version, and never writes over what a colleague saved meanwhile', async () => {
      const saved = async () => (await studio.client.call('profileShow', { params: { name: 'loom' } })).text;
      await page.goto(`${studio.url}/profiles/loom`);
      await press('Write a new version');
      const text = await document().inputValue();
      await document().fill(text.replace('title: What', 'title: All that'));
      const theirs = text.replace('title: What', 'title: Whatever');
      await studio.client.call('profileSave', { params: { name: 'loom' }, body: { text: theirs }, etag: '*' });
      await press('Save it as a new version');
      await page.getByRole('alert').getByText('Somebody was quicker').waitFor();
      expect(await document().inputValue()).toContain('title: All that');
      expect(await saved()).toBe(theirs);
      await press('Write mine over it');
      await page.getByText('version 3, saved').waitFor();
      expect(await saved()).toContain('title: All that');
    });
  });
});
