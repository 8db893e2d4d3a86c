import { request } from 'node:http';
import { text } from 'node:stream/consumers';
import { Client } from '@tessarion/client';
import { browser } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from '../support/browsing.js';
import { newcomer, onRecords, PASSWORD, refusal, type Studio, signIn, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

let studio: Studio;
beforeAll(async () => {
  const mail = { TESSARION_SMTP_URL: 'smtp://127.0.0.1:1', TESSARION_MAIL_FROM: 'studio@copperlane.example' };
  studio = await startStudio('nothing', { variables: mail });
}, 120_000);
afterAll(() => studio?.stop());

const NEXT = 'heather kelp madder 12';
let number = 0;
const mailOf = (): string => `odd.rye-${number++}@copperlane.example`;
const attack = (call: Promise<unknown>): Promise<string> => {
  tried('passwords');
  return refusal(call);
};

describe('a password', () => {
  it.each([
    'password1234',
    'passwordpassword',
    'qwertyuiop123',
    '123456789012',
    'aaaaaaaaaaaa',
    'iloveyou1234',
    'letmeinletmein',
    'tessarion123',
    'Password12345',
    'MAIL',
  ])('that is easily guessed is not taken: %s', async (given) => {
    const mail = mailOf();
    const guessed = given === 'MAIL' ? mail : given;
    const body = { name: 'Odd Rye', mail, role: 'observer', scope: 'everything' };
    const { key } = await studio.client.call('personInvite', { body });
    const stranger = new Client({ url: studio.url });
    expect(await attack(stranger.call('invitationAccept', { body: { key, password: guessed } }))).toBe('invalid');
    expect(await refusal(stranger.call('invitationAccept', { body: { key, password: NEXT } }))).toBe('done');
    const own = browser(studio.url);
    await own.call('signIn', { body: { mail, password: NEXT } });
    expect(await attack(own.call('passwordChange', { body: { password: NEXT, next: guessed } }))).toBe('invalid');
  });

  it('is changed by who knows it, and ends every other session', async () => {
    const mail = mailOf();
    const first = await newcomer(studio, mail, 'developer', 'everything');
    const [here, there] = [await signIn(studio, mail), await signIn(studio, mail)];
    const { value } = await here.call('tokenCreate', { body: { name: 'whole' } });
    const change = (client: Client, password: string) =>
      client.call('passwordChange', { body: { password, next: NEXT } });
    expect(await attack(change(here, 'not the password'))).toBe('wrong-password');
    expect(await attack(change(new Client({ url: studio.url, token: value }), PASSWORD))).toBe('not-allowed');
    expect(await change(here, PASSWORD)).toEqual({ ended: 2 });
    for (const other of [first, there]) expect(await attack(other.call('me'))).toBe('not-signed-in');
    expect(await refusal(here.call('me'))).toBe('done');
    const signingIn = (password: string) => browser(studio.url).call('signIn', { body: { mail, password } });
    expect(await attack(signingIn(PASSWORD))).toBe('not-signed-in');
    expect(await refusal(signingIn(NEXT))).toBe('done');
    expect(await here.call('sessionsEnd')).toEqual({ ended: 1 });
    expect(await here.call('sessionList')).toHaveLength(1);
  });

  it('is changed in the console', async () => {
    const mail = mailOf();
    await newcomer(studio, mail, 'observer', 'everything');
    const browsing = await Browsing.open(studio);
    try {
      const page = await browsing.signedIn(mail);
      await page.goto(`${studio.url}/settings`);
      await page.getByRole('button', { name: 'Choose another' }).click();
      await page.getByLabel('The one that you have').fill(PASSWORD);
      await page.getByLabel('Another one').fill('password1234');
      await page.getByRole('button', { name: 'Take it from now on' }).click();
      await page.getByRole('alert').getByText('easily guessed').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      await page.getByLabel('Another one').fill(NEXT);
      await page.getByRole('button', { name: 'Take it from now on' }).click();
      await page.getByRole('status').getByText('It is another one now').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
    } finally {
      await browsing.close();
    }
  });
});

describe('a place that is new', () => {
  const signInFrom = (mail: string, from: string): Promise<string> =>
    new Promise((resolve, reject) => {
      const asked = request(
        `${studio.url}/api/v1/sign-in`,
        { method: 'POST', localAddress: from, headers: { 'content-type': 'application/json' } },
        async (response) => resolve(await text(response)),
      );
      asked.on('error', reject);
      asked.end(JSON.stringify({ mail, password: PASSWORD }));
    });

  it('is told by mail to who signed in there, and one that is known is not', async () => {
    const mail = mailOf();
    await newcomer(studio, mail, 'observer', 'everything');
    const letters = async () => Number((await onRecords(studio, 'SELECT count(*)::int AS n FROM letter'))[0]?.n);
    const before = await letters();
    await signInFrom(mail, '127.0.0.1');
    expect(await letters()).toBe(before);
    await signInFrom(mail, '127.0.0.9');
    expect(await letters()).toBe(before + 1);
    await signInFrom(mail, '127.0.0.9');
    expect(await letters()).toBe(before + 1);
  });
});
