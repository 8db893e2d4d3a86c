import { tmpdir } from 'node:os';
import { afterAll, beforeAll, describe } from 'vitest';
import { SshServer } from '../src/ssh/ssh-server.js';
import { databaseSuite } from './conformance/databases.js';
import { mariaKind } from './conformance/mariadb.js';
import { memoryKind } from './conformance/memory.js';
import { postgresKind } from './conformance/postgres.js';
import { siteSuite } from './conformance/site.js';
import { type Sshd, startSshd } from './support/sshd.js';

for (const [title, kind] of [
  ['PostgreSQL', postgresKind],
  ['MariaDB', mariaKind],
  ['a kind that exists in tests only', memoryKind],
] as const) {
  databaseSuite(title, kind);
  siteSuite(title, kind);
}

describe('reached by SSH', () => {
  let sshd: Sshd;
  beforeAll(async () => {
    sshd = await startSshd();
  });
  afterAll(() => sshd.stop());
  const server = (base: string): SshServer => new SshServer({ kind: 'ssh', base, at: sshd.place });
  const kind = () => postgresKind(server(tmpdir()).carrier);
  databaseSuite('PostgreSQL', kind);
  siteSuite('PostgreSQL', kind, server);
  databaseSuite('MariaDB', () => mariaKind(server(tmpdir()).carrier));
  siteSuite('MariaDB', () => mariaKind(server(tmpdir()).carrier), server);
});
