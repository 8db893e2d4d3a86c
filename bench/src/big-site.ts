import { randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import pg from 'pg';
import { adopt, type Installation, newDatabase } from './installation.js';

export const ADDRESS = 'https://threadmill.example';

export const PROFILE = `tessarion: profile/1
name: big
title: A large site
areas:
  - { name: code, path: ., class: authored }
databases:
  main:
    tables:
      article: { class: authored }
      comment: { class: authored }
      meta: { class: authored }
items:
  - { kind: article, table: article, title: title }
`;

export interface BigSite {
  readonly files: number;
  readonly rows: number;
}

export const FULL: BigSite = { files: 20_000, rows: 1_000_000 };

/** Makes the data of design 6: half compressible files of 18 kB; rows in three tables, the address in 70 % of them. */
export async function makeBigSite(on: Installation, name: string, size: BigSite): Promise<void> {
  const folder = join(on.hosts, `${name}--live`, 'main');
  const half = randomBytes(9000);
  const text = Buffer.from('the quick brown fox jumps over the lazy dog '.repeat(205));
  for (let i = 0; i < size.files; i++) {
    const at = join(folder, String(i % 200));
    if (i < 200) await fs.mkdir(at, { recursive: true });
    half.writeUInt32LE(i, 0);
    for (let k = 1; k < 9000 / 64; k++) half.writeUInt32LE((i * 2654435761 + k * 40503) >>> 0, k * 64);
    await fs.writeFile(join(at, `${i}.bin`), Buffer.concat([half, text]));
  }
  await newDatabase(on, `${name}_live`);
  const client = new pg.Client({
    host: on.server.host,
    port: on.server.port,
    user: `${name}_live`,
    password: 'bench',
    database: `${name}_live`,
  });
  await client.connect();
  await client.query(`
    CREATE TABLE article (id serial PRIMARY KEY, title text NOT NULL, body text NOT NULL, changed timestamptz NOT NULL DEFAULT '2026-01-01');
    CREATE TABLE comment (id serial PRIMARY KEY, article_id int NOT NULL, body text NOT NULL);
    CREATE TABLE meta (id serial PRIMARY KEY, article_id int NOT NULL, key text NOT NULL, value text NOT NULL);`);
  await client.query(
    "INSERT INTO article (title, body) SELECT 'Article ' || i, CASE WHEN i % 10 < 7 THEN 'See <a href=\"" +
      ADDRESS +
      "/article/' || i || '\">this</a> for more about it' ELSE 'Nothing to see in this article, but it has some length' END || repeat(' word', 6) FROM generate_series(1, $1) i",
    [Math.floor(size.rows * 0.4)],
  );
  await client.query(
    `INSERT INTO comment (article_id, body) SELECT i, CASE WHEN i % 10 < 7 THEN 'I read ${ADDRESS}/article/' || i || ' twice' ELSE 'A comment of somebody who says nothing' END || repeat(' and so on', 4) FROM generate_series(1, $1) i`,
    [Math.floor(size.rows * 0.4)],
  );
  await client.query(
    `INSERT INTO meta (article_id, key, value) SELECT i, 'link', CASE WHEN i % 10 < 7 THEN 'a:2:{s:3:"url";s:' || length('${ADDRESS}/m/' || i) || ':"${ADDRESS}/m/' || i || '";s:1:"n";i:' || i || ';}' ELSE 'a:1:{s:1:"n";i:' || i || ';}' END FROM generate_series(1, $1) i`,
    [size.rows - 2 * Math.floor(size.rows * 0.4)],
  );
  await client.query('CREATE INDEX ON comment (article_id); CREATE INDEX ON meta (article_id); ANALYZE');
  await client.end();
  await adopt(on, name, 'big', ADDRESS.replace('threadmill', name));
}
