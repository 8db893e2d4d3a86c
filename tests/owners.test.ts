import { execFile, spawnSync } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  folderOf,
  makeCopy,
  onSite,
  pullInto,
  pushOnto,
  type Studio,
  startStudio,
  undo,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
/** Who the site's web server and its editors' group are, in this test; only root can give files away. */
const [WEB, EDITORS] = [33, 40];

let studio: Studio;
let kept: KeptSite;

beforeAll(async () => {
  studio = await startStudio('staging');
  for (const path of [LIVE, COPY]) {
    const folder = folderOf(studio, path);
    for (const inner of ['', ...(await fs.readdir(folder, { recursive: true }))])
      await fs.lchown(join(folder, inner), WEB, WEB);
    // Shared with a group that is to write here; one file is the administrator's, and only read.
    await fs.chown(join(folder, 'main/styles'), WEB, EDITORS);
    await fs.chmod(join(folder, 'main/styles'), 0o2775);
    await fs.chown(join(folder, 'main/config'), 0, WEB);
    await fs.chmod(join(folder, 'main/config'), 0o750);
    await fs.chown(join(folder, 'main/config/site.env'), 0, WEB);
    await fs.chmod(join(folder, 'main/config/site.env'), 0o640);
  }
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
beforeEach(() => kept.restore());
afterAll(() => studio?.stop());

/** Owner, group and mode of everything that an environment's addresses lead to, by path; links by where they stand. */
async function owners(path: string): Promise<Record<string, string>> {
  const found: Record<string, string> = {};
  const look = async (place: string, name: string): Promise<void> => {
    const stat = await fs.lstat(place);
    const mode = stat.isSymbolicLink() ? 'link' : (stat.mode & 0o7777).toString(8);
    found[name] = `${stat.uid}:${stat.gid} ${mode}`;
    if (stat.isSymbolicLink() && !(await fs.stat(place)).isDirectory()) return;
    if (!stat.isSymbolicLink() && !stat.isDirectory()) return;
    for (const inner of await fs.readdir(place)) await look(`${place}/${inner}`, `${name}/${inner}`);
  };
  await look(join(folderOf(studio, path), 'main'), 'main');
  return found;
}

describe.skipIf(process.getuid?.() !== 0)('whom files belong to', () => {
  it('is carried over to a copy, with modes: its web server writes where that of live does', async () => {
    await makeCopy(studio, 'threadmill', 'again', 'dev');
    const [live, copy] = [await owners(LIVE), await owners('threadmill/again')];
    // What is made anew with each environment is not there yet.
    for (const [name, owner] of Object.entries(copy)) expect([name, owner]).toEqual([name, live[name]]);
    expect(copy['main/config/site.env']).toBe(`0:${WEB} 640`);
    expect(copy['main/styles']).toBe(`${WEB}:${EDITORS} 2775`);
    expect(Object.keys(copy).filter((name) => live[name]?.startsWith('33')).length).toBeGreaterThan(5);
    const { uid, gid } = await fs.stat(folderOf(studio, 'threadmill/again'));
    expect([uid, gid], 'tasks run as this user').toEqual([WEB, WEB]);
  });

  it('is what it was after a push, and that of the folder for what is new; undo and all', async () => {
    const before = await owners(LIVE);
    const main = join(folderOf(studio, COPY), 'main');
    // As an editor's upload program leaves them.
    await fs.writeFile(join(main, 'styles/site.css'), '.changed{}');
    await fs.writeFile(join(main, 'styles/new.css'), '.new{}');
    await fs.mkdir(join(main, 'media/deep/er'), { recursive: true });
    await fs.writeFile(join(main, 'media/deep/er/one.svg'), '<svg/>');
    await fs.symlink('logo.svg', join(main, 'media/also.svg'));
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    const after = await owners(LIVE);
    for (const [name, owner] of Object.entries(before)) expect([name, after[name]]).toEqual([name, owner]);
    expect(after['main/styles/new.css']).toBe(`${WEB}:${EDITORS} 644`);
    expect(after['main/media/deep/er/one.svg']).toBe(`${WEB}:${WEB} 644`);
    expect(after['main/media/deep']).toBe(`${WEB}:${WEB} 755`);
    expect(after['main/media/also.svg']).toBe(`${WEB}:${WEB} link`);
    await done(studio, await undo(studio, push.id));
    expect(await owners(LIVE)).toEqual(expect.objectContaining(before));
  });

  it('is kept by uploads that a pull replaces, and given to those that it brings', async () => {
    const uploads = join(folderOf(studio, LIVE), 'main/media/uploads');
    await fs.mkdir(uploads, { recursive: true });
    await fs.writeFile(join(uploads, 'sent.txt'), 'by a visitor');
    await fs.chown(join(uploads, 'sent.txt'), WEB, WEB);
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'News' WHERE slug = 'dye'"));
    await done(studio, await pullInto(studio, LIVE, COPY));
    const copy = await owners(COPY);
    const sent = Object.entries(copy).find(([name]) => name.endsWith('/sent.txt'));
    expect(sent?.[1]).toBe(`${WEB}:${WEB} 644`);
    expect(Object.values(copy).filter((owner) => owner.startsWith('0:0'))).toEqual([]);
  });
});

const hasAcls = spawnSync('getfacl', ['--version']).status === 0;

describe.skipIf(!hasAcls)('access control lists', () => {
  const tool = async (program: string, ...args: string[]): Promise<string> =>
    (await promisify(execFile)(program, args)).stdout;
  /** By the name below the folder that holds it; what has no more than its mode says is not there. */
  const acls = async (folder: string): Promise<Record<string, string>> => {
    const said = await tool(
      'getfacl',
      '--skip-base',
      '--numeric',
      '--recursive',
      '--physical',
      '--absolute-names',
      folder,
    );
    const blocks = said.split('\n\n').filter((block) => block.includes('# file: '));
    return Object.fromEntries(
      blocks.map((block) => {
        const lines = block.trim().split('\n');
        const path = lines[0]?.slice(`# file: ${folder}`.length) ?? '';
        return [path, lines.filter((line) => !line.startsWith('#')).join(' ')];
      }),
    );
  };
  const tree = (path: string): Promise<string> => fs.realpath(join(folderOf(studio, path), 'main'));
  const READER = 'user::rw- user:1234:r-- group::r-- mask::r-- other::---';

  it('are those of the source in a copy, and those of what they take the place of in a push, an undo and a pull', async () => {
    const live = await tree(LIVE);
    await tool('setfacl', '-m', 'u:1234:r,o::-', join(live, 'config/site.env'), join(live, 'styles/site.css'));
    await tool('setfacl', '-m', 'u:1234:rwx,d:u:1234:rwx', join(live, 'media'));
    const before = await acls(live);
    expect(Object.keys(before).sort()).toEqual(['/config/site.env', '/media', '/styles/site.css']);
    expect(before['/styles/site.css']).toBe(READER);

    await makeCopy(studio, 'threadmill', 'listed');
    const copy = await tree('threadmill/listed');
    const there = await acls(copy);
    for (const [name, acl] of Object.entries(before)) expect([name, there[name]]).toEqual([name, acl]);

    await fs.writeFile(join(copy, 'styles/site.css'), '.changed{}');
    await fs.writeFile(join(copy, 'media/new.svg'), '<svg/>');
    const push = await done(studio, await pushOnto(studio, 'threadmill/listed', LIVE));
    const pushed = await acls(await tree(LIVE));
    for (const [name, acl] of Object.entries(before)) expect([name, pushed[name]]).toEqual([name, acl]);
    expect(pushed['/media/new.svg'], 'as its folder says of what is new').toContain('user:1234:rwx');
    expect(await fs.readFile(join(await tree(LIVE), 'styles/site.css'), 'utf8')).toBe('.changed{}');
    await done(studio, await undo(studio, push.id));
    expect(await acls(await tree(LIVE))).toEqual(before);

    // Uploads are written where they lie.
    const sent = (path: string): string => join(folderOf(studio, path), 'main/media/uploads/sent.txt');
    for (const [path, words] of [
      [LIVE, 'news of a visitor'],
      ['threadmill/listed', 'what was sent before'],
    ] as const) {
      await fs.mkdir(join(sent(path), '..'), { recursive: true });
      await fs.writeFile(sent(path), words);
    }
    await tool('setfacl', '-m', 'u:1234:r,o::-', sent('threadmill/listed'));
    await done(studio, await pullInto(studio, LIVE, 'threadmill/listed'));
    expect(await fs.readFile(sent('threadmill/listed'), 'utf8')).toBe('news of a visitor');
    expect(Object.values(await acls(await fs.realpath(join(sent('threadmill/listed'), '..'))))).toContain(READER);
  });
});
