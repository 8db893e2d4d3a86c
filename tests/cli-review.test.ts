import type { ChangeRequest, Colleague, ItemVisit, RequestDetail } from '@tessarion/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import { type CommandEnd, newcomer, onSite, type Studio, startStudio, tessarion } from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const LISE = 'lise.aune@copperlane.example';

let studio: Studio;
let kept: KeptSite;
/** Tokens of who reviews and of who only looks. */
let [lise, bror] = ['', ''];

beforeAll(async () => {
  studio = await startStudio('staging');
  kept = await KeptSite.of(studio, LIVE, COPY);
  const token = async (mail: string, role: string, name: string): Promise<string> => {
    const client = await newcomer(studio, mail, role, 'threadmill', name);
    return (await client.call('tokenCreate', { body: { name: 'command line' } })).value;
  };
  [lise, bror] = [
    await token(LISE, 'reviewer', 'Lise Aune'),
    await token('bror.ness@copperlane.example', 'observer', 'Bror Ness'),
  ];
}, 120_000);
afterAll(() => studio?.stop());

const run = (line: string, token?: string): Promise<CommandEnd> =>
  tessarion(
    studio,
    [...line.matchAll(/"([^"]*)"|(\S+)/g)].map((match) => match[1] ?? (match[2] as string)),
    token === undefined ? {} : { TESSARION_TOKEN: token },
  );
const out = async (line: string, token?: string): Promise<string> => {
  const end = await run(line, token);
  if (end.code !== 0) throw new Error(`${line} ended with ${end.code}: ${end.err}`);
  expect(Math.max(...end.out.split('\n').map((one) => [...one].length)), line).toBeLessThanOrEqual(100);
  return end.out;
};
const asJson = async <T>(line: string, token?: string): Promise<T> => {
  const end = await run(`${line} --json`, token);
  if (end.code !== 0) throw new Error(`${line} ended with ${end.code}: ${end.err}`);
  return JSON.parse(end.out) as T;
};
/** Lists have one shape. */
const asList = async <T>(line: string): Promise<T[]> => {
  const { items, next } = await asJson<{ items: T[]; next: string | null }>(line);
  expect(next).toBe(null);
  return items;
};
/** At most a few lines: what, why, what to do next; and never a stack. */
const refused = async (line: string, code: number, token?: string): Promise<string> => {
  const end = await run(line, token);
  expect([line, end.code]).toEqual([line, code]);
  expect(end.err).not.toMatch(/\n {4}at |undefined|\[object/);
  return end.err;
};
const editPage = (title: string): Promise<unknown> =>
  onSite(studio, COPY, (query) => query('UPDATE page SET title = $1 WHERE slug = $2', [title, 'dye']));

describe('on the command line a change, step by step', { shuffle: false }, () => {
  let id = '';
  beforeAll(async () => {
    await kept.restore();
    await out('lane rule threadmill --approvals 0');
  });

  it('is not pushed past a lane that asks for approval, which says what to do', async () => {
    expect(await out('lane show threadmill')).toContain('Onto live: a plain push goes');
    expect(await out('lane rule threadmill --approvals 1 --threads-block')).toContain('needs 1 approval');
    expect(await out('lane show threadmill')).toContain('Onto live: 1 approval, and no open thread');
    await editPage('Dyes');
    const words = await refused(`push --from ${COPY} --confirm ${LIVE}`, 3);
    expect(words).toMatch(/must be approved[\s\S]*tessarion request open --forecast f-\w+/);
  });

  it('is asked for, found by its reviewer, talked about and sent back', async () => {
    await refused(`request open --from ${COPY} --title x --reviewer nobody@copperlane.example`, 2);
    const opened = await asJson<RequestDetail>(
      `request open --from ${COPY} --title "The page on dyes" --reviewer ${LISE} --before "Tell the dyer"`,
    );
    id = opened.id;
    expect(opened).toMatchObject({ state: 'in-review', reviewers: [{ person: { name: 'Lise Aune' } }] });
    expect(await out('request list --waiting', lise)).toMatch(new RegExp(`${id}.*The page on dyes.*in-review \\*`));
    expect(await out('request list --waiting')).toContain('No change requests.');
    expect(await out('request list --find DYES')).toContain(id);
    expect(await out('request list --find 100%')).toContain('No change requests.');
    const item = opened.items[0]?.id ?? '';
    const talked = await out(`review comment ${id} "Which dyes?" --item ${item} --field title`, lise);
    const thread = /c-\w{10}/.exec(talked)?.[0] ?? '';
    await out(`review comment ${id} "Madder and weld." --reply ${thread}`);
    await refused(`review approve ${id}`, 3);
    await refused(`review return ${id}`, 2, lise);
    expect(await out(`review return ${id} --reason "Say which."`, lise)).toContain('Because: Say which.');
    expect(await out(`request show ${id}`)).toMatch(/Lise Aune.*Which dyes\?[\s\S]*Maren Brask.*Madder and weld\./);
  });

  it('is mended, approved, and delivered when its step is done', async () => {
    await editPage('Madder and weld');
    expect(await out(`request revise ${id}`)).toContain('revision 2');
    await out(`request ask ${id}`);
    expect(await refused(`review approve ${id} --revision 1`, 5, lise)).toContain('is at revision 2 by now');
    expect(await out(`review approve ${id} --words "Well done"`, lise)).toContain('in-review');
    const { threads, steps } = await asJson<RequestDetail>(`request show ${id}`);
    await out(`review resolve ${id} ${threads[0]?.id}`);
    expect((await asJson<RequestDetail>(`request show ${id}`)).state).toBe('approved');
    await refused(`deliver ${id}`, 3);
    await refused(`deliver ${id} --confirm threadmill/staging`, 3);
    expect(await refused(`deliver ${id} --confirm ${LIVE}`, 3)).toContain('Tell the dyer');
    await out(`request tick ${id} --step ${steps[0]?.id}`);
    await refused(`deliver ${id} --confirm ${LIVE} --when "next tuesday"`, 2);
    await refused(`deliver ${id} --confirm ${LIVE}`, 3, lise);
    expect(await out(`deliver ${id} --confirm ${LIVE}`)).toContain(`${id} is delivered.`);
    const { transfer } = await asJson<RequestDetail>(`request show ${id}`);
    expect(await out(`transfer show ${transfer}`)).toContain(`Delivers change request ${id}.`);
    const page = await asJson<{ items: ChangeRequest[] }>('request list --state delivered');
    expect(page.items.map((one) => one.id)).toEqual([id]);
  });

  it('is traced to its request, and taken back by one of its own', async () => {
    expect(await out(`env whence ${LIVE} "Madder and weld"`)).toMatch(
      /Madder and weld changed, "How we dye" before\n +push t-\w+ from threadmill\/staging[\s\S]*"The page on dyes" of Maren Brask, approved by Lise Aune/,
    );
    for (const named of ['page:2', '"How we dye"'])
      expect(await out(`env whence ${LIVE} ${named}`)).toContain('Madder and weld');
    expect(await out(`env whence ${LIVE} nothing-of-this-name`)).toContain('No transfer has written');
    const [visit] = await asList<ItemVisit>(`env whence ${LIVE} page:2`);
    const words = await refused(`undo ${visit?.transfer} --confirm ${LIVE}`, 3);
    const forecast = /--forecast (f-\w+)/.exec(words)?.[1] ?? '';
    const back = await asJson<RequestDetail>(
      `request open --forecast ${forecast} --title "The dyes as they were" --reviewer ${LISE}`,
    );
    expect(back).toMatchObject({ undoes: visit?.transfer, state: 'in-review' });
    expect(await out('request list --open')).toMatch(new RegExp(`${back.id}.*threadmill/live, back`));
    expect(await out(`request show ${back.id}`)).toContain(`Takes back: ${visit?.transfer}`);
    await out(`review approve ${back.id}`, lise);
    expect(await out(`deliver ${back.id} --confirm ${LIVE}`)).toContain('is delivered.');
    expect((await asJson<RequestDetail>(`request show ${visit?.request?.id}`)).state).toBe('undone');
    expect(await out(`env whence ${LIVE} page:2`)).toMatch(/taken back by t-\w+/);
  });
});

describe('on the command line a change, at any time', () => {
  beforeEach(async () => {
    await kept.restore();
    await out('lane rule threadmill --approvals 1 --threads-block');
  });

  it('is looked at item by item, and what one said of it is worded anew or taken back', async () => {
    await editPage('Weld');
    const asked = await asJson<RequestDetail>(`request open --from ${COPY} --title "Weld" --reviewer ${LISE}`);
    const { id, items } = asked;
    expect(await out('notice list --unseen', lise)).toMatch(new RegExp(`o-\\w{10} \\* +${id} Weld +.*asks you`));
    await out('notice seen', lise);
    expect(await out('notice list --unseen', lise)).toContain('Nothing new.');
    expect(await out('notice list', lise)).toContain('Weld');
    await refused('notice list --limit many', 2, lise);

    expect(await out(`review seen ${id} ${items[0]?.id}`, lise)).toContain(`You have seen 1 of ${items.length} item`);
    expect(await out(`review seen ${id} --undone`, lise)).toContain('You have seen 0 of');
    expect(await refused(`review seen ${id} page:99`, 2, lise)).toContain('It has no item page:99');

    const talked = await asJson<RequestDetail>(`review comment ${id} "Is it weld?"`, lise);
    const comment = talked.threads[0]?.id ?? '';
    expect(await out(`review reword ${id} ${comment} "Is it weld, or woad?"`, lise)).toContain(
      'edited: Is it weld, or woad?',
    );
    await refused(`review reword ${id} ${comment} "Mine."`, 3);
    await refused(`review reword ${id} c-0000000000 "Nowhere."`, 1, lise);
    const replied = await asJson<RequestDetail>(`review comment ${id} "Woad." --reply ${comment}`);
    const reply = replied.threads[0]?.comments[1]?.id ?? '';
    expect(await out(`request show ${id}`)).toContain(reply);
    await refused(`review remove-comment ${id} ${reply}`, 3, lise);
    expect(await out(`review remove-comment ${id} ${reply}`)).toContain('removed');
    await out(`request withdraw ${id} --reason "The test is over."`);
  });

  it('is withdrawn with a reason', async () => {
    await editPage('Not now');
    const opened = await asJson<RequestDetail>(`request open --from ${COPY} --title "Not now" --draft`);
    expect(opened.state).toBe('draft');
    await refused(`request withdraw ${opened.id}`, 2);
    expect(await out(`request withdraw ${opened.id} --reason "Asked for twice"`)).toContain('withdrawn');
    await refused(`request ask ${opened.id}`, 3);
  });

  it('is claimed, and what is claimed is asked for and handed over', async () => {
    await editPage('Woad');
    const first = await asJson<RequestDetail>(`request open --from ${COPY} --title "Woad, first" --draft`);
    const item = first.items[0]?.id ?? '';
    expect(await refused(`request open --from ${COPY} --title "Woad, second" --draft`, 3)).toContain('is claimed by');
    const second = await asJson<RequestDetail>(
      `request open --from ${COPY} --title "Woad, second" --draft --wait-in-line`,
    );
    expect(second.waitsFor).toMatchObject([{ request: first.id }]);
    await refused(`request ask-over ${first.id}`, 3);
    await out(`request ask-over ${second.id}`);
    expect((await asJson<RequestDetail>(`request show ${first.id}`)).wantedBy).toMatchObject([{ isAsked: true }]);
    await refused(`request yield ${first.id}`, 2);
    await refused(`request yield ${first.id} --item page:99`, 3);
    await out(`request yield ${first.id} --item ${item}`);
    expect((await asJson<RequestDetail>(`request show ${second.id}`)).waitsFor).toEqual([]);
    for (const one of [first, second]) await out(`request withdraw ${one.id} --reason "The test is over."`);
  });
});

describe('tags of a site', () => {
  it('are shown to who asks, and taken away only by name', async () => {
    await out('site tag threadmill shop north');
    expect(await out('site tag threadmill')).toBe('threadmill: north, shop.\n');
    await refused('site tag threadmill shop --none', 2);
    expect(await out('site list --tag nosuch')).toContain('No site is like that');
    expect(await out('site tag threadmill --none')).toBe('threadmill: no tags.\n');
  });
});

describe('a forecast that was read', () => {
  it('is what is pushed, by its id; it says all itself, and ends as it stands', async () => {
    await kept.restore();
    await out('lane rule threadmill --approvals 0');
    await editPage('Read before');
    const forecast = await asJson<{ id: string }>(`forecast --from ${COPY} --onto ${LIVE} --only page:*`);
    expect(await refused(`push --forecast ${forecast.id} --from ${COPY} --yes`, 2)).toContain('--from');
    const wrong = await run(`push --forecast ${forecast.id} --from ${COPY} --yes --json`);
    expect(JSON.parse(wrong.err)).toMatchObject({ type: 'tessarion:command', detail: expect.any(String), exitCode: 2 });
    const absent = await run('site show no-such-site --json');
    expect([JSON.parse(absent.err), absent.out]).toMatchObject([{ type: 'tessarion:not-found', exitCode: 1 }, '']);
    expect(await refused(`pull --forecast ${forecast.id} --yes`, 3)).toContain('A pull goes downward');
    await out(`push --forecast ${forecast.id} --confirm ${LIVE}`);
    const [page] = await onSite(studio, LIVE, (query) => query("SELECT title FROM page WHERE slug = 'dye'"));
    expect(page?.title).toBe('Read before');

    await editPage('Of the copy');
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'Of live' WHERE slug = 'dye'"));
    expect((await run(`forecast --from ${COPY} --onto ${LIVE}`)).code).toBe(4);
    expect((await run(`forecast --from ${COPY} --onto ${LIVE} --only nosuch:1`)).code).toBe(3);
    expect((await run(`forecast --from ${COPY} --onto ${LIVE} --rest destination`)).code).toBe(0);
    await kept.restore();
  });
});

describe('windows and freezes', () => {
  it('are set, shown and lifted, and say what is wrong with them', async () => {
    await refused('window set threadmill someday', 2);
    expect(await out('window set threadmill mon-fri,22:00-02:00 sun,06:00-09:00')).toMatch(
      /mon-fri +22:00 +02:00[\s\S]*sun +06:00 +09:00 Europe\/Oslo/,
    );
    expect(await out('window set threadmill fri-mon,01:00-02:00')).toMatch(/mon, fri-sun|fri-sun, mon|mon, fri/);
    const frozen = await out('freeze add --for threadmill --from 12-20 --until 01-02 --reason "Christmas trade"');
    const freeze = /z-\w{10}/.exec(frozen)?.[0] ?? '';
    expect(await out('freeze list')).toMatch(new RegExp(`${freeze}.*12-20.*01-02.*each year.*Christmas trade`));
    expect(await out('window show threadmill --at 2026-12-27T12:00:00Z')).toMatch(
      /^threadmill\/live 27 Dec .*: frozen, opens /,
    );
    await refused('window show threadmill --at someday', 2);
    expect(await out('window show threadmill')).toContain('Frozen each year from 12-20 until 01-02 Europe/Oslo: ');
    await refused('freeze add --for threadmill --from 2027-02-02T00:00 --until 2027-02-01T00:00 --reason x', 2);
    await refused('freeze add --for no-such-site --from 01-01 --until 01-02 --reason x', 1);
    await out(`freeze lift ${freeze}`);
    expect(await out('freeze list')).toContain('No freezes.');
    expect(await refused('window set threadmill', 2)).toContain('one may deliver at all times');
    expect(await out('window show threadmill'), 'who asks changes nothing').toMatch(/sun +06:00|01:00/);
    await refused('window set threadmill sun,06:00-09:00 --none', 2);
    expect(await out('window set threadmill --none')).toContain('There are no windows');
    expect(await out('window quiet threadmill')).toMatch(/Nobody has come|Counted since/);
    // A token is for programs, and makes no address by which somebody reads along.
    await refused('window calendar', 2);
    await refused('notice seen o-0000000000', 1);
    expect(await out('lane rule threadmill --approvals 1 --guests 1')).toContain('1 approval, a yes of 1 guest');
    expect(await refused('lane rule threadmill', 2)).toContain('what is not named stays');
    expect(await out('lane rule threadmill --threads-block')).toContain('1 approval, a yes of 1 guest, and no open');
    expect(await out('lane rule threadmill --guests 0 --no-threads-block')).toMatch(/needs 1 approval\.$/m);
    await refused('lane rule threadmill --approvals some', 2);
  });
});

describe('people and roles', () => {
  it('are invited, given roles, put into teams, and sent away', async () => {
    const mail = 'odd.rye@copperlane.example';
    const invited = await out(`people invite ${mail} --name "Odd Rye" --role operations --for threadmill`);
    expect(invited).toMatch(/\/invitation#invitation_\S+/);
    expect(await out('people list')).toMatch(
      /Odd Rye +odd\.rye@copperlane\.example +invited.*operations for threadmill/,
    );
    await out(`people grant ${mail} observer`);
    await out(`people team night-shift ${mail} --title "Night shift"`);
    expect(await out('people teams')).toMatch(/night-shift +Night shift +Odd Rye/);
    expect(await out('people team night-shift'), 'who asks empties nothing').toBe('Night shift: Odd Rye.\n');
    expect(await out('people team night-shift --title "Nights"')).toBe('Nights: Odd Rye.\n');
    expect(await refused('people team no-such-team', 1)).toContain('There is no team no-such-team');
    await refused(`people team night-shift ${mail} --nobody`, 2);
    expect(await out('people team night-shift --nobody')).toBe('Nights: nobody.\n');
    await out(`people team night-shift ${mail}`);
    await out('people grant team:night-shift developer --for threadmill');
    await out(`people revoke ${mail} observer`);
    expect(await refused(`people revoke ${mail} developer --for threadmill`, 1)).toContain('by a team');
    const [odd] = (await asList<Colleague>('people list')).filter((one) => one.mail === mail);
    expect(odd?.roles.map((one) => `${one.role} ${one.team}`)).toEqual(['operations null', 'developer night-shift']);
    await out(`people invite-again ${mail}`);
    await out(`people end ${mail}`);
    await refused(`people invite-again ${mail}`, 3);
    await out(`people readmit ${mail}`);
    await out(`people end ${mail}`);
    expect(await out('people remove-team night-shift')).toContain('is removed');
    await refused('people remove-team night-shift', 1);
    expect(await out(`people erase ${mail} --yes`)).toContain('is erased');
    expect(await out('people list')).not.toContain('Odd Rye');
    await refused('people end nobody@copperlane.example', 1);
    expect(await out('people sessions')).toContain('127.0.0.1');
  });

  it('a role is made of permissions, and refuses what it does not hold', async () => {
    expect(await out('role save auditor --may site.read journal.read')).toContain('site.read, journal.read');
    expect(await out('role list')).toMatch(/auditor \(own\)\n {2}site\.read/);
    await refused('role save auditor --may everything', 2);
    await refused('role save editor --may site.read', 3);
    await out('role remove auditor');
    expect(await refused('role save mine --may site.read', 3, bror)).toContain('may not make roles');
    expect(await refused('journal list', 3, bror)).toContain('Not allowed.');
    await refused(`env create threadmill/other`, 3, bror);
  });
});

describe('the journal', () => {
  it('is listed, exported and verified', async () => {
    expect(await out('journal list --act siteAdopt --outcome done')).toMatch(
      /Maren Brask +brought in threadmill\/live/,
    );
    expect(await out('journal list --limit 3')).toContain('More: --after');
    expect(await out('journal list --find "nothing of the kind"')).toContain('Nothing in the journal fits.');
    const made = await out('freeze add --for threadmill --from 12-24 --until 12-26 --reason "=1+1, nobody is here"');
    await out(`freeze lift ${/z-\w{10}/.exec(made)?.[0]}`);
    const lines = (await run('journal export --act freezeAdd')).out.trim().split('\n');
    expect(lines.map((line) => JSON.parse(line).act)).toContain('freezeAdd');
    const csv = (await run('journal export --as csv --act freezeAdd')).out.trim().split('\r\n');
    expect(csv[0]).toBe('position,at,actor,name,from,act,outcome,thing,details');
    expect(csv.length).toBe(lines.length + 1);
    expect(csv[1]).toContain('"{""freeze""');
    const moves = (await run('transfer export --as csv --kind adopt')).out.trim().split('\r\n');
    expect(moves[0]).toMatch(/^id,at,kind,from,onto,sentence/);
    expect(moves[1]).toMatch(/,adopt,,threadmill\/live,/);
    expect((await run('transfer export --until 2020-01-01T00:00:00Z')).out).toBe('');
    await refused('transfer list --kind sideways', 2);
    expect(await out('journal verify')).toContain('Everything is as it was written.');
  });
});

describe('webhooks', () => {
  it('are added, listed and removed', async () => {
    await refused('webhook add ftp://hooks.example/', 2);
    const made = await run('webhook add https://hooks.example/7 --for threadmill --type tessarion.request.delivered');
    expect(made.out).toMatch(/whsec_\S{40,}/);
    const id = /w-\w{10}/.exec(made.out)?.[0] ?? '';
    expect(await out('webhook list')).toMatch(
      new RegExp(`${id} +https://hooks.example/7 +threadmill +request.delivered`),
    );
    expect(await out(`webhook deliveries ${id}`)).toContain('Nothing was sent yet.');
    await refused('webhook resend v-0000000000', 1);
    await out(`webhook remove ${id}`);
    expect(await out('webhook list')).toContain('No webhooks.');
  });
});
