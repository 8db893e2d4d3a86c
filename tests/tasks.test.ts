import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  makeCopy,
  onSite,
  pullInto,
  pushOnto,
  type Studio,
  saveProfile,
  settled,
  startStudio,
  tessarion,
  undo,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

let studio: Studio;
let kept: KeptSite;
let plain = '';

beforeAll(async () => {
  studio = await startStudio('staging');
  plain = (await studio.client.call('profileShow', { params: { name: 'quayside' }, query: {} })).text;
  for (const path of [LIVE, COPY]) {
    // Programs of a site run as the user whom its folder belongs to.
    const folder = folderOf(studio, path);
    for (const inner of ['', ...(await fs.readdir(folder, { recursive: true }))])
      await fs.lchown(join(folder, inner), 33, 33);
  }
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
beforeEach(async () => {
  await kept.restore();
  await profileWith([]);
});
afterAll(() => studio?.stop());

interface Task {
  readonly name: string;
  readonly phase: string;
  readonly script: string;
  readonly schema?: boolean;
}
const profileWith = (tasks: readonly Task[]) =>
  saveProfile(
    studio.client,
    'quayside',
    tasks.length === 0
      ? plain
      : `${plain.trimEnd()}\ntasks:\n${tasks
          .map(
            ({ name, phase, script, schema }) =>
              `  - { name: ${name}, phase: ${phase}, command: [sh, -c, ${JSON.stringify(script)}]${schema ? ', changes-schema: true' : ''} }`,
          )
          .join('\n')}\n`,
  );
/** Each task writes down what live's visitors and it itself see when it runs. */
const noting = (name: string): string =>
  `echo ${name} $(head -c 9 styles/site.css) >> media/uploads/noted; echo said by ${name}`;
const ALL: readonly Task[] = ['after', 'held', 'staged'].map((phase) => ({
  name: `task-${phase}`,
  phase,
  script: noting(phase),
}));
const main = (path: string, file: string): string => join(folderOf(studio, path), 'main', file);
const noted = async (path: string): Promise<string[]> =>
  (await fs.readFile(main(path, 'media/uploads/noted'), 'utf8').catch(() => ''))
    .split('\n')
    .filter((one) => one !== '');
const edit = async (): Promise<void> => {
  for (const path of [LIVE, COPY]) await fs.rm(main(path, 'media/uploads/noted'), { force: true });
  await fs.writeFile(main(COPY, 'styles/site.css'), '.the-new-style{}');
  await fs.chown(main(COPY, 'styles/site.css'), 33, 33);
  await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'New title' WHERE slug = 'dye'"));
};
const titleOnLive = (): Promise<unknown> =>
  onSite(studio, LIVE, async (query) => (await query("SELECT title FROM page WHERE slug = 'dye'"))[0]?.title);

describe.skipIf(process.getuid?.() !== 0)('tasks of a profile', () => {
  it('run with a push in their order: beside what is in use, while visitors are held, and after', async () => {
    await profileWith(ALL);
    await edit();
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.tasks.map((one) => [one.name, one.phase, one.runs])).toEqual([
      ['task-staged', 'staged', true],
      ['task-held', 'held', true],
      ['task-after', 'after', true],
    ]);
    const end = await done(
      studio,
      await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
    );
    expect(await noted(LIVE)).toEqual(['staged .the-new-', 'held .the-new-', 'after .the-new-']);
    const at = (name: string): number => end.steps.findIndex((step) => step.name === name);
    expect(['stage', 'staged-tasks', 'hold', 'commit', 'switch', 'held-tasks', 'release', 'tasks'].map(at)).toEqual(
      ['stage', 'staged-tasks', 'hold', 'commit', 'switch', 'held-tasks', 'release', 'tasks']
        .map(at)
        .sort((a, b) => a - b),
    );
    const log = end.log.map((line) => line.text).join('\n');
    for (const phase of ['staged', 'held', 'after']) {
      expect(log).toContain(`Task task-${phase} ended with 0.`);
      expect(log, 'what it said is on record').toContain(`said by ${phase}`);
    }
  });

  it('that are staged work on files of their own: what they write in place shows on live only with the switch', async () => {
    await profileWith([
      {
        name: 'build',
        phase: 'staged',
        script: 'echo built >> styles/links.css; echo made > styles/made.css; sleep 1',
      },
      { name: 'fails', phase: 'held', script: 'exit 3' },
    ]);
    await edit();
    const before = await fs.readFile(main(LIVE, 'styles/links.css'), 'utf8');
    const end = await ended(studio, await pushOnto(studio, COPY, LIVE));
    expect(end.state).toBe('failed');
    expect(end.failure?.message).toContain('The task fails ended with 3');
    expect(await fs.readFile(main(LIVE, 'styles/links.css'), 'utf8'), 'put back').toBe(before);
    expect(await titleOnLive()).toBe('How we dye');

    await profileWith([
      { name: 'build', phase: 'staged', script: 'echo built >> styles/links.css; echo made > styles/made.css' },
    ]);
    await fs.writeFile(main(LIVE, 'media/uploads/late'), 'x');
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await fs.readFile(main(LIVE, 'styles/links.css'), 'utf8')).toBe(`${before}built\n`);
    expect(await fs.readFile(main(LIVE, 'styles/made.css'), 'utf8')).toBe('made\n');
    expect(await titleOnLive()).toBe('New title');
  });

  it.each(['staged', 'held', 'after'])('put everything back when one that is %s fails', async (phase) => {
    await profileWith([{ name: 'fails', phase, script: 'echo the reason >&2; exit 4' }]);
    await edit();
    const style = await fs.readFile(main(LIVE, 'styles/site.css'), 'utf8');
    const end = await ended(studio, await pushOnto(studio, COPY, LIVE));
    expect(end).toMatchObject({ state: 'failed', failure: { message: 'The task fails ended with 4: the reason' } });
    expect(await titleOnLive()).toBe('How we dye');
    expect(await fs.readFile(main(LIVE, 'styles/site.css'), 'utf8')).toBe(style);
    expect((await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status).toBe(200);
  });

  it('run with undo, pull, reset, restore and a new copy as well', async () => {
    await profileWith(ALL);
    await edit();
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    await fs.rm(main(LIVE, 'media/uploads/noted'));
    await done(studio, await undo(studio, push.id));
    expect((await noted(LIVE)).map((line) => line.split(' ')[0])).toEqual(['staged', 'held', 'after']);

    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'News' WHERE slug = 'home'"));
    await fs.writeFile(main(LIVE, 'styles/links.css'), '.news{}');
    await fs.rm(main(COPY, 'media/uploads/noted'), { force: true });
    await fs.rm(main(LIVE, 'media/uploads/noted'), { force: true });
    await done(studio, await pullInto(studio, LIVE, COPY, { wishes: { rest: 'destination' } }));
    expect((await noted(COPY)).map((line) => line.split(' ')[0])).toEqual(['staged', 'held', 'after']);

    const all = ['staged', 'held', 'after'];
    await fs.rm(main(COPY, 'media/uploads/noted'));
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
    expect((await noted(COPY)).map((line) => line.split(' ')[0])).toEqual(all);
    await makeCopy(studio, 'threadmill', 'fresh', 'dev');
    expect((await noted('threadmill/fresh')).map((line) => line.split(' ')[0])).toEqual(all);
  });

  it('that change the schema run only when they are chosen, by name', async () => {
    await profileWith([
      { name: 'migrate', phase: 'held', script: noting('migrate'), schema: true },
      { name: 'usual', phase: 'after', script: noting('usual') },
    ]);
    await edit();
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.tasks.map((one) => [one.name, one.changesSchema, one.runs])).toEqual([
      ['migrate', true, false],
      ['usual', false, true],
    ]);
    const wrong = await settled(studio, forecast.id, { tasks: ['usual'] });
    expect(wrong.checks.find((one) => one.name === 'tasks')).toMatchObject({ state: 'failed' });
    await settled(studio, forecast.id, { tasks: [] });
    const shown = await tessarion(studio, ['forecast', '--from', COPY, '--onto', LIVE]);
    expect(shown.out).toMatch(/migrate.*held.*changes the schema; runs only when chosen: --run migrate/);
    const pushed = await tessarion(studio, ['push', '--from', COPY, '--run', 'migrate', '--confirm', LIVE]);
    expect(pushed.out).toMatch(/^Done/m);
    expect((await noted(LIVE)).map((line) => line.split(' ')[0])).toEqual(['migrate', 'usual']);
  });

  it('that came into the profile since outdate what was read', async () => {
    await edit();
    const forecast = await forecastOf(studio, COPY, LIVE);
    await profileWith(ALL);
    const end = await ended(
      studio,
      await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
    );
    expect(end.failure?.message).toContain('changed since: the tasks of the profile');
    expect(await titleOnLive()).toBe('How we dye');
  });
});
