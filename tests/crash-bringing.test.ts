import type { BodyOf } from '@tessarion/contract';
import { install, visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Breakpoint } from './support/breakpoint.js';
import { Dying } from './support/dying.js';
import { picture } from './support/picture.js';
import { done, ended, onRecords, SHOP, type Studio, startStudio } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let own: BodyOf<'siteAdopt'>;

beforeAll(async () => {
  studio = await startStudio('nothing', { args: ['--workers', '2'] });
  dying = new Dying(studio, await Breakpoint.open(studio));
  own = await install(studio.place, SHOP);
}, 120_000);
afterAll(() => dying?.stop());

const live = async (): Promise<number> => (await visit(studio.gatewayPort, 'threadmill.localhost', '/page/dye')).status;

describe('SIGKILL of the worker while a site is brought in and given back', () => {
  it.each([
    ['check', 'check'],
    ['layout', 'layout'],
    ['publish', 'forget'],
  ])('at "%s" and at "%s" leaves it here or there, and its folder as it was', async (bringing, leaving) => {
    const found = await picture(own.folder);
    await dying.breakpoint.set(bringing);
    const adopting = await studio.client.call('siteAdopt', { body: own });
    await dying.killAtBreakpoint(adopting);
    const adopted = await ended(studio, adopting);
    if (bringing === 'check') {
      expect([adopted.state, await onRecords(studio, 'SELECT name FROM site')]).toEqual(['failed', []]);
      expect(await picture(own.folder)).toEqual(found);
      await done(studio, await studio.client.call('siteAdopt', { body: own }));
    } else expect(adopted.state).toBe('done');
    expect(await live()).toBe(200);
    const leave = () =>
      studio.client.call('siteLeave', { params: { site: 'threadmill' }, query: { confirm: 'threadmill' } });
    await dying.breakpoint.set(leaving);
    const going = await leave();
    await dying.killAtBreakpoint(going);
    const gone = await ended(studio, going);
    if (leaving === 'check') {
      expect(gone.state).toBe('failed');
      expect(await live()).toBe(200);
      await done(studio, await leave());
    } else expect(gone.state).toBe('done');
    expect(await onRecords(studio, 'SELECT path FROM environment')).toEqual([]);
    // Areas that the site did not have before stay as empty folders.
    const known = new Set(found);
    const more = (await picture(own.folder)).filter((line) => !known.delete(line));
    expect([...known], 'all that was there').toEqual([]);
    expect(more.filter((line) => !line.endsWith(' folder'))).toEqual([]);
  });
});
