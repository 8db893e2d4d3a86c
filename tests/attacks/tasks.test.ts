import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { addSite, done, SHOP, type Studio, saveProfile, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('live');
  await addSite(studio, { ...SHOP, name: 'saltmarsh', client: 'Saltmarsh Ferries' });
}, 120_000);
afterAll(() => studio?.stop());

const copyWith = async (name: string, script: string) => {
  const { text } = await studio.client.call('profileShow', { params: { name: 'quayside' } });
  const tasks = `tasks: [{ name: look, command: [sh, -c, ${JSON.stringify(script)}], phase: after }]`;
  await saveProfile(studio.client, 'quayside', `${text.replace(/^tasks: .*$/m, '').trimEnd()}\n${tasks}\n`);
  const body = { name, kind: 'dev' } as const;
  return studio.client.call('environmentCreate', { params: { site: 'threadmill' }, body });
};

it('a task of a profile reaches nothing but the environment that it is run for', async () => {
  const data = join(studio.data, 'tessarion');
  const look = [
    `ls ${studio.hosts}`,
    'cat /proc/[0-9]*/environ',
    'id -u',
    'cat config/site.env | head -1',
    // Of what it says, the end is on record.
    `cat ${data}/master.key ${studio.hosts}/saltmarsh--live/main/config/site.env`,
  ].join('; ');
  const made = await copyWith('looks', `{ ${look}; } > /dev/shm/said-$$ 2>&1; cat /dev/shm/said-$$ >&2; true`);
  const end = await done(studio, made);
  tried('tasks');
  const said = end.log.map((line) => line.text).join('\n');
  expect(said).toContain('Task look ended with 0.');
  expect(said).toContain('threadmill--looks');
  expect(said).not.toMatch(/saltmarsh--live\n|threadmill--live\n/);
  expect(said).not.toContain(await fs.readFile(join(data, 'master.key'), 'utf8'));
  expect(said).not.toContain('TESSARION_');
  expect(said).toContain('No such file');
});

it('one that fails is told with the end of what it said', async () => {
  const made = await copyWith('fails', 'yes | head -c 200000; echo the reason >&2; exit 3');
  await expect(done(studio, made)).rejects.toThrow('The task look ended with 3: the reason');
});
