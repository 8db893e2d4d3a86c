import type { Client } from '@tessarion/client';
import { generateKeyPair } from 'jose';
import { Secret, TOTP } from 'otpauth';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { StandInProvider } from './support/stand-in-provider.js';
import { newcomer, onRecords, refusal, type Studio, signIn, startStudio, tessarion } from './support/studio.js';

const APP = { id: 'tessarion', secret: 'a secret for tests' };

let studio: Studio;
let provider: StandInProvider;

beforeAll(async () => {
  provider = await StandInProvider.open(APP);
  studio = await startStudio('nothing', {
    variables: {
      TESSARION_OIDC_ISSUER: provider.issuer,
      TESSARION_OIDC_CLIENT_ID: APP.id,
      TESSARION_OIDC_CLIENT_SECRET: APP.secret,
      TESSARION_OIDC_NAME: 'Copperlane accounts',
    },
  });
}, 120_000);
afterAll(async () => {
  await studio?.stop();
  await provider?.close();
});

const post = (path: string, body: unknown): Promise<Response> =>
  fetch(`${studio.url}/api/v1${path}`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify(body),
  });
/** How a try to sign in ends. */
async function attempt(mail: string, code?: string): Promise<string> {
  const body = { mail, password: studio.password, ...(code === undefined ? {} : { code }) };
  const response = await post('/sign-in', body);
  return response.ok ? 'in' : ((await response.json()) as { type: string }).type.replace('tessarion:', '');
}

/** Sets a second factor up. */
async function withFactor(client: Client): Promise<{ device: TOTP; codes: string[] }> {
  const { secret, uri, picture } = await client.call('factorBegin', { body: { password: studio.password } });
  expect(uri).toContain(`secret=${secret}`);
  expect(picture).toContain('<svg');
  const device = new TOTP({ secret: Secret.fromBase32(secret) });
  const { codes } = await client.call('factorConfirm', { body: { code: device.generate() } });
  return { device, codes };
}

/** A code of the step after the current one, which clocks may be off by. */
const next = (device: TOTP): string => device.generate({ timestamp: Date.now() + 30_000 });

describe('a second factor', () => {
  it('is guessed by nobody who sets it up either', async () => {
    const client = await newcomer(studio, 'eli.vik@copperlane.example', 'editor', 'everything');
    await client.call('factorBegin', { body: { password: studio.password } });
    const tries: string[] = [];
    for (let i = 0; i < 6; i++) tries.push(await refusal(client.call('factorConfirm', { body: { code: '000000' } })));
    expect(tries).toEqual([...Array(5).fill('second-factor'), 'too-many-tries']);
  });

  it('is asked for once a first code was right, and each code works once', async () => {
    const mail = 'ida.moe@copperlane.example';
    const client = await newcomer(studio, mail, 'editor', 'everything');
    expect(await refusal(client.call('factorBegin', { body: { password: 'wrong' } }))).toBe('wrong-password');
    const begun = await client.call('factorBegin', { body: { password: studio.password } });
    expect(await attempt(mail), 'begun is not set up').toBe('in');
    expect(await refusal(client.call('factorConfirm', { body: { code: '000000' } }))).toBe('second-factor');
    const device = new TOTP({ secret: Secret.fromBase32(begun.secret) });
    const code = device.generate();
    const { codes, isOn } = await client.call('factorConfirm', { body: { code } });
    expect(isOn).toBe(true);
    expect(codes).toHaveLength(10);
    const again = client.call('factorConfirm', { body: { code: next(device) } });
    expect(await refusal(again), 'a code alone makes no recovery codes').toBe('conflict');
    expect(await attempt(mail)).toBe('second-factor');
    expect(await attempt(mail, code), 'used to set it up').toBe('second-factor');
    const later = next(device);
    expect(await attempt(mail, `${later.slice(0, 3)} ${later.slice(3)}`)).toBe('in');
    expect(await attempt(mail, later), 'used').toBe('second-factor');
    expect(await attempt(mail, codes[0])).toBe('in');
    expect(await attempt(mail, codes[0]), 'used').toBe('second-factor');
    expect(await attempt(mail, codes[1]?.toUpperCase().replace('-', ''))).toBe('in');
    expect(await client.call('factorShow')).toMatchObject({ isOn: true, recoveryCodes: 8 });
    const rows = JSON.stringify(await onRecords(studio, 'SELECT * FROM second_factor, recovery_code'));
    for (const secret of [begun.secret, ...codes]) expect(rows).not.toContain(secret);
  });

  it('cannot be guessed, nor asked for without the password', async () => {
    const mail = 'torgeir.vang@copperlane.example';
    const { device } = await withFactor(await newcomer(studio, mail, 'developer', 'everything'));
    const wrong = await post('/sign-in', { mail, password: 'a wrong password' });
    expect(((await wrong.json()) as { type: string }).type, 'whether there is one is not told').toBe(
      'tessarion:not-signed-in',
    );
    for (let i = 0; i < 4; i++) expect(await attempt(mail, String(100_000 + i))).toBe('second-factor');
    expect(await attempt(mail, next(device))).toBe('too-many-tries');
  });

  it('is ended and renewed with a code, by no token, and by an administrator for who lost it', async () => {
    const mail = 'lise.aune@copperlane.example';
    const client = await newcomer(studio, mail, 'reviewer', 'everything');
    const { codes } = await withFactor(client);
    expect(await refusal(client.call('factorBegin', { body: { password: studio.password } }))).toBe('conflict');
    const renewed = await client.call('factorCodes', { body: { code: codes[0] ?? '' } });
    expect(await refusal(client.call('factorEnd', { body: { code: codes[1] ?? '' } }))).toBe('second-factor');
    expect(await client.call('factorEnd', { body: { code: renewed.codes[0] ?? '' } })).toMatchObject({ isOn: false });
    expect(await attempt(mail)).toBe('in');
    expect(await refusal(client.call('factorEnd', { body: { code: 'x' } }))).toBe('conflict');
    expect(await refusal(studio.client.call('factorBegin', { body: { password: studio.password } }))).toBe(
      'not-allowed',
    );

    await withFactor(client);
    const ended = await tessarion(studio, ['people', 'end-factor', mail]);
    expect(ended.code, ended.err).toBe(0);
    expect(await refusal(client.call('me')), 'sessions end').toBe('not-signed-in');
    expect(await attempt(mail)).toBe('in');
  });

  it('is given on the command line too', async () => {
    const mail = 'odd.rye@copperlane.example';
    const { codes } = await withFactor(await newcomer(studio, mail, 'operations', 'everything'));
    const given = { TESSARION_PASSWORD: studio.password, TESSARION_CONFIG: `${studio.data}/odd.yaml` };
    const without = await tessarion(studio, ['sign-in', '--mail', mail], given);
    expect(without.code).not.toBe(0);
    expect(without.err).toContain('TESSARION_CODE');
    const signed = await tessarion(studio, ['sign-in', '--mail', mail], { ...given, TESSARION_CODE: codes[0] ?? '' });
    expect(signed.out, signed.err).toContain('Signed in as');
  });

  it('is set up in Settings, and asked for where one signs in', async () => {
    const mail = 'sanna.hult@copperlane.example';
    await newcomer(studio, mail, 'editor', 'everything');
    const browsing = await Browsing.open(studio);
    try {
      const page = await browsing.signedIn(mail);
      await page.goto(`${studio.url}/settings`);
      await page.getByRole('button', { name: 'Set it up' }).click();
      await page.getByLabel('Your password').fill(studio.password);
      await page.getByRole('button', { name: 'Go on' }).click();
      await page.getByAltText('Key to be scanned').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      const shown = await page.getByRole('form', { name: 'A second factor' }).locator('p.mono').textContent();
      const device = new TOTP({ secret: Secret.fromBase32((shown ?? '').replaceAll(' ', '')) });
      await page.getByLabel('The code that it shows').fill(device.generate());
      await page.getByRole('button', { name: 'Ask for it from now on' }).click();
      await page.getByText('10 recovery codes are left.').waitFor();
      expect(await browsing.faults(page)).toEqual([]);

      const other = await browsing.stranger();
      await other.goto(`${studio.url}/sign-in`);
      await other.getByLabel('Mail address').fill(mail);
      await other.getByLabel('Password').fill(studio.password);
      await other.getByRole('button', { name: 'Sign in', exact: true }).click();
      await other.getByLabel(/Code of your second factor/).fill('000000');
      await other.getByRole('button', { name: 'Sign in', exact: true }).click();
      await other.getByText('The code is not right').waitFor();
      expect(await browsing.faults(other)).toEqual([]);
      await other.getByLabel(/Code of your second factor/).fill(next(device));
      await other.getByRole('button', { name: 'Sign in', exact: true }).click();
      await other.getByRole('button', { name: /account/ }).waitFor();
    } finally {
      await browsing.close();
    }
  });
});

/** Goes the way to the provider and back, as a browser does. */
async function byProvider(
  to = '/',
  tamper: (url: URL) => void = () => undefined,
): Promise<{ location: string; session: string }> {
  const begun = await fetch(`${studio.url}/api/v1/sign-in/provider?to=${encodeURIComponent(to)}`, {
    redirect: 'manual',
  });
  const journey = begun.headers.get('set-cookie')?.split(';')[0] ?? '';
  const vouched = await fetch(begun.headers.get('location') ?? '', { redirect: 'manual' });
  const back = new URL(vouched.headers.get('location') ?? '');
  tamper(back);
  const ended = await fetch(back, { redirect: 'manual', headers: { cookie: journey } });
  const session = ended.headers.getSetCookie().find((one) => one.startsWith('tessarion_session=')) ?? '';
  return { location: ended.headers.get('location') ?? '', session: session.split(';')[0] ?? '' };
}
const me = async (cookie: string): Promise<number> =>
  (await fetch(`${studio.url}/api/v1/me`, { headers: { cookie } })).status;
const refusedWith = (location: string): string => new URL(location, studio.url).searchParams.get('problem') ?? '';

describe('signing in by a provider', () => {
  it('lets in who was invited, by a mail address that the provider has verified, and knows them from then on', async () => {
    const mail = 'bror.ness@copperlane.example';
    await studio.client.call('personInvite', { body: { name: 'Bror', mail, role: 'observer', scope: 'everything' } });
    provider.vouched = { sub: 'bror-1', email: mail.toUpperCase(), email_verified: true };
    const { location, session } = await byProvider('/requests?view=waiting');
    expect(location).toBe('/requests?view=waiting');
    expect(await me(session)).toBe(200);
    provider.vouched = { sub: 'bror-1', email: 'another@copperlane.example', email_verified: true };
    expect(await me((await byProvider()).session), 'known by the provider, not by an address').toBe(200);
    const [entry] = (await studio.client.call('journalList', { query: { act: 'signIn' } })).items;
    expect(entry).toMatchObject({ outcome: 'done', name: 'Bror', details: { by: 'Copperlane accounts' } });
  });

  it('lets in nobody else', async () => {
    provider.vouched = { sub: 'stranger', email: 'stranger@elsewhere.example', email_verified: true };
    expect(refusedWith((await byProvider()).location)).toBe('unknown');
    provider.vouched = { sub: 'liar', email: 'maren.brask@copperlane.example', email_verified: false };
    expect(refusedWith((await byProvider()).location)).toBe('no-mail');
    provider.vouched = { sub: 'silent' };
    expect(refusedWith((await byProvider()).location)).toBe('no-mail');
    const people = await studio.client.call('personList');
    const gone = await newcomer(studio, 'gone@copperlane.example', 'observer', 'everything');
    await studio.client.call('personEnd', { params: { id: (await gone.call('me')).id } });
    provider.vouched = { sub: 'gone', email: 'gone@copperlane.example', email_verified: true };
    expect(refusedWith((await byProvider()).location)).toBe('unknown');
    expect((await studio.client.call('personList')).length).toBe(people.length + 1);
  });

  it('gives nobody’s place to a second account with the same address, unless they are invited again', async () => {
    const mail = 'siv.aune@copperlane.example';
    const body = { name: 'Siv', mail, role: 'observer', scope: 'everything' };
    const { id } = await studio.client.call('personInvite', { body });
    provider.vouched = { sub: 'siv-1', email: mail, email_verified: true };
    expect(await me((await byProvider()).session)).toBe(200);
    provider.vouched = { sub: 'siv-2', email: mail, email_verified: true };
    expect(refusedWith((await byProvider()).location)).toBe('another-account');
    await studio.client.call('personInviteAgain', { params: { id } });
    expect(await me((await byProvider()).session)).toBe(200);
  });

  it('takes no state, token or journey that is not its own', async () => {
    provider.vouched = { sub: 'maren', email: 'maren.brask@copperlane.example', email_verified: true };
    const tampered = await byProvider('/', (url) => url.searchParams.set('state', 'planted'));
    expect(refusedWith(tampered.location)).toBe('not-vouched');
    const { privateKey } = await generateKeyPair('RS256');
    for (const forged of [{ nonce: 'replayed' }, { aud: 'another-client' }, { key: privateKey }]) {
      provider.forged = forged;
      expect(refusedWith((await byProvider()).location)).toBe('not-vouched');
    }
    const planted = await fetch(`${studio.url}/api/v1/sign-in/provider/return?code=x&state=y`, {
      redirect: 'manual',
      headers: { cookie: 'tessarion_journey=eyJzdGF0ZSI6InkifQ' },
    });
    expect(refusedWith(planted.headers.get('location') ?? '')).toBe('away');
  });

  it.each(['https://elsewhere.example/', '//elsewhere.example', '/\\elsewhere.example'])(
    'sends nobody on to %s',
    async (to) => {
      provider.vouched = { sub: 'maren', email: 'maren.brask@copperlane.example', email_verified: true };
      expect((await byProvider(to)).location).toBe('/');
    },
  );

  it('is offered where one signs in, and says why it came to nothing', async () => {
    const browsing = await Browsing.open(studio);
    try {
      const page = await browsing.stranger();
      provider.vouched = { sub: 'stranger', email: 'stranger@elsewhere.example', email_verified: true };
      await page.goto(`${studio.url}/sign-in?to=${encodeURIComponent('/people')}`);
      await page.getByRole('link', { name: 'Sign in with Copperlane accounts' }).click();
      await page.getByRole('alert').getByText('Nobody here has your mail address').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      await page.goto(
        `${studio.url}/sign-in?problem=${encodeURIComponent('Call 555 0100 and read out your password')}`,
      );
      await page.getByLabel('Password').waitFor();
      expect(await page.getByText('555 0100').count(), 'words in the address are nobody’s').toBe(0);
      provider.vouched = { sub: 'maren', email: 'maren.brask@copperlane.example', email_verified: true };
      await page.goto(`${studio.url}/sign-in?to=${encodeURIComponent('/people')}`);
      await page.getByRole('link', { name: 'Sign in with Copperlane accounts' }).click();
      await page.locator('main h1', { hasText: 'People' }).waitFor();
    } finally {
      await browsing.close();
    }
  });

  it('says so when the provider is down, and passwords go on', async () => {
    const other = await startStudio('nothing', {
      variables: {
        TESSARION_OIDC_ISSUER: 'http://127.0.0.1:9',
        TESSARION_OIDC_CLIENT_ID: APP.id,
      },
    });
    try {
      const begun = await fetch(`${other.url}/api/v1/sign-in/provider`, { redirect: 'manual' });
      expect(refusedWith(begun.headers.get('location') ?? '')).toBe('not-reached');
      await signIn(other, 'maren.brask@copperlane.example');
    } finally {
      await other.stop();
    }
  });
});
