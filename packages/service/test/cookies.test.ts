import cookie from '@fastify/cookie';
import Fastify from 'fastify';
import { expect, it } from 'vitest';
import { endSession, giveSession } from '../src/http/cookies.js';

const cookiesAt = async (consoleUrl: string): Promise<[given: string, ended: string]> => {
  const app = Fastify();
  await app.register(cookie);
  const expires = new Date('2027-01-01T00:00:00Z');
  app.get('/in', async (_request, reply) => giveSession(reply, { session: 'session_x', expires }, { consoleUrl }));
  app.get('/out', async (_request, reply) => endSession(reply, { consoleUrl }));
  const [given, ended] = await Promise.all(['/in', '/out'].map((url) => app.inject(url)));
  await app.close();
  return [String(given?.headers['set-cookie']), String(ended?.headers['set-cookie'])];
};

it('a session by TLS is bound to this host alone, and ended under the same name', async () => {
  const [given, ended] = await cookiesAt('https://studio.example');
  expect(given).toMatch(/^__Host-tessarion_session=session_x;/);
  for (const one of [given, ended]) {
    expect(one).toMatch(/; Path=\/(;|$)/);
    expect(one).toContain('Secure');
    expect(one).not.toContain('Domain');
  }
  expect(given).toContain('HttpOnly');
  expect(given).toContain('SameSite=Strict');
  expect(ended).toMatch(/^__Host-tessarion_session=;/);
});

it('a session on this machine has no such name, which no browser would take in the clear', async () => {
  const [given] = await cookiesAt('http://127.0.0.1:7070');
  expect(given).toMatch(/^tessarion_session=session_x;/);
});
