import { join } from 'node:path';
import type { Client } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import { onDatabase } from '@tessarion/demo-site';
import { type DemoPlace, ended, forecastOf } from './fill.js';
import { browser, type Crew } from './people.js';

interface Story {
  readonly client: Client;
  readonly crew: Crew;
  readonly place: DemoPlace;
}

const CHRISTMAS = { repeats: 'yearly', from: '12-20', until: '01-02' } as const;

/** What lanes ask for, when one may deliver, and a change request in each state that lasts: by the real operations. */
export async function tellRequests(story: Story): Promise<void> {
  const { client } = story;
  await rules(client);
  // Each is of a site of its own.
  await Promise.all([
    inReview(story),
    returned(story),
    simple(story, 'bellfounder', 'Opening hours over Christmas', { ask: false }),
    approved(story),
    scheduled(story),
    blocked(story),
    delivered(story),
    undone(story),
    withdrawn(story),
  ]);
}

async function approved(story: Story): Promise<void> {
  await verdict(story.crew.lise, await simple(story, 'kelder', 'The new growers from Jura'));
}

async function blocked(story: Story): Promise<void> {
  const asked = await simple(story, 'netloft', 'Painters of the north coast');
  await verdict(story.crew.lise, asked);
  await edit(story, 'netloft/staging', '<p>Painters of the north coast, and their boats.</p>');
  await deliver(story, asked);
}

async function delivered(story: Story): Promise<void> {
  const asked = await simple(story, 'fernleigh', 'Ferns that stand frost');
  await verdict(story.crew.lise, asked);
  await deliver(story, asked);
}

async function undone(story: Story): Promise<void> {
  const asked = await simple(story, 'hollowoak', 'Prices of the oak tables');
  await verdict(story.crew.lise, asked);
  await undo(story, await deliver(story, asked));
}

async function withdrawn(story: Story): Promise<void> {
  const asked = await simple(story, 'wherry', 'Boats by the month');
  await story.crew.ida.call('requestWithdraw', {
    params: { id: asked.id },
    body: { reason: 'The harbour office has not said yes.' },
  });
}

/** Sites that are put together by a word. */
const TAGS = {
  threadmill: ['shop'],
  bellfounder: ['shop'],
  fernleigh: ['shop'],
  hollowoak: ['shop'],
  saltmarsh: ['timetable'],
  wherry: ['timetable'],
  pendulum: ['culture'],
  quaychoir: ['culture'],
} as const;

async function rules(client: Client): Promise<void> {
  for (const [site, tags] of Object.entries(TAGS))
    await client.call('siteTag', { params: { site }, body: { tags: [...tags] }, etag: '*' });
  for (const site of ['threadmill', 'saltmarsh', 'pendulum', 'northgate'])
    await client.call('laneRule', {
      params: { site, onto: 'live' },
      body: { approvals: 1, teams: [], threadsBlock: site === 'threadmill' },
      etag: '*',
    });
  for (const [site, days, from, until] of [
    ['threadmill', [1, 2, 3, 4, 7], '22:00', '02:00'],
    ['saltmarsh', [1, 2, 3, 4, 5, 6, 7], '23:30', '05:00'],
    ['tollhouse', [1, 2, 3], '14:00', '16:30'],
  ] as const)
    await client.call('windowSet', {
      params: { site },
      body: { windows: [{ days: [...days], from, until }] },
      etag: '*',
    });
  await client.call('freezeAdd', {
    body: { reason: 'Christmas trade', scope: 'client:Threadmill & Daughters', time: CHRISTMAS },
  });
  const day = (ahead: number): string => new Date(Date.now() + ahead * 86_400_000).toISOString().slice(0, 10);
  await client.call('freezeAdd', {
    body: {
      reason: 'The concert is sold from here all week',
      scope: 'quaychoir',
      time: { repeats: 'never', from: `${day(-1)}T08:00`, until: `${day(8)}T23:00` },
    },
  });
}

/** The finished part of the autumn collection, with a conversation about it. */
async function inReview(story: Story): Promise<void> {
  const { crew } = story;
  const forecast = await forecastOf(crew.ida, 'threadmill/staging', 'threadmill/live');
  const { items } = await crew.ida.call('forecastItems', { params: { id: forecast } });
  const only = items
    .filter((item) => item.collisions.length === 0 && item.change === 'new' && item.kind === 'product')
    .map((item) => item.id);
  const prices = items.find((item) => item.title === 'Wool throw');
  const opened = await open(story, 'threadmill/staging', {
    title: 'Autumn collection, first part',
    description:
      'The three pieces that are **photographed and priced**. The menu and the page follow when the texts are in.\n\n- the runner is woven on order\n- stock stays at 0 until Thursday',
    only: [...only, ...(prices ? [prices.id] : [])],
    steps: [
      { phase: 'before', text: 'Tell the warehouse what comes' },
      { phase: 'after', text: 'Send the newsletter' },
    ],
    wantedFor: 'window',
  });
  await ask(crew.ida, opened);
  const shuttle = opened.items.find((item) => item.title === 'Walnut shuttle');
  const talked = await crew.lise.call('commentAdd', {
    params: { id: opened.id },
    body: {
      text: 'Is 19.00 with the tax? The others are.',
      ...(shuttle ? { item: shuttle.id, field: 'price' } : {}),
    },
  });
  await crew.ida.call('commentAdd', {
    params: { id: opened.id },
    body: { text: 'With the tax, yes. I have asked the workshop to be sure.', thread: talked.threads[0]?.id ?? '' },
  });
  await crew.odd.call('commentAdd', {
    params: { id: opened.id },
    body: { text: 'Window is Sunday 22:00. I can take it then.' },
  });
  await guest(story, opened);
}

/** The client looks at what the shop would be, and says something. */
async function guest({ client, crew, place }: Story, { id }: RequestDetail): Promise<void> {
  await ended(client, await crew.ida.call('previewMake', { params: { id } }));
  const { url } = await crew.ida.call('guestInvite', {
    params: { site: 'threadmill' },
    body: {
      name: 'Vera Lund',
      words:
        'The first part of the autumn collection, as it would be in the shop. The pictures are the ones of Tuesday.',
      looks: [{ request: id }],
    },
  });
  const vera = browser(place.url);
  await vera.call('guestEnter', { body: { key: url.slice(url.indexOf('#') + 1) } });
  await vera.call('guestSay', {
    params: { position: 0 },
    body: { text: 'The runner is lovely. Can the shuttle come before it?' },
  });
}

async function returned(story: Story): Promise<void> {
  const { crew } = story;
  const opened = await open(story, 'saltmarsh/staging', { title: 'Winter timetable' }, crew.sanna);
  await ask(crew.sanna, opened);
  await crew.lise.call('verdictGive', {
    params: { id: opened.id },
    body: {
      says: 'return',
      revision: 1,
      words: 'The last boat from Holm must leave after the one from Nesodd Pier. Look at 20:10 once more.',
    },
  });
}

async function scheduled(story: Story): Promise<void> {
  const { client, crew } = story;
  const asked = await simple(story, 'tollhouse', 'Rooms with the new fire rules');
  await verdict(crew.lise, asked);
  const plan = await client.call('deliveryPlan', { params: { site: 'tollhouse' } });
  const next = plan.openings.find((one) => Date.parse(one.from) > Date.now());
  await crew.odd.call('requestDeliver', {
    params: { id: asked.id },
    body: { when: next?.from ?? 'window', confirm: 'tollhouse/live' },
  });
}

const edit = ({ place }: Story, path: string, body: string): Promise<void> =>
  onDatabase(join(place.hosts, path.replace('/', '--')), async (query) => {
    await query(`UPDATE page SET body = '${body}' WHERE slug = 'about'`);
  });

/** A small change of one page, asked for by Ida. */
async function simple(
  story: Story,
  site: string,
  title: string,
  { ask: isAsked }: { readonly ask: boolean } = { ask: true },
): Promise<RequestDetail> {
  await edit(story, `${site}/staging`, `<p>${title}.</p>`);
  const opened = await open(story, `${site}/staging`, { title });
  return isAsked ? ask(story.crew.ida, opened) : opened;
}

interface Wanted {
  readonly title: string;
  readonly description?: string;
  readonly only?: string[];
  readonly steps?: { phase: 'before' | 'after'; text: string }[];
  readonly wantedFor?: 'window';
}

async function open(
  { crew }: Story,
  from: string,
  { only = [], ...wanted }: Wanted,
  by = crew.ida,
): Promise<RequestDetail> {
  const forecast = await forecastOf(by, from, `${from.split('/')[0]}/live`, { only });
  const { id } = await crew.lise.call('me');
  return by.call('requestOpen', { body: { forecast, ...wanted, reviewers: [{ person: id }] } });
}

const ask = (by: Client, { id }: RequestDetail): Promise<RequestDetail> => by.call('requestAsk', { params: { id } });

const verdict = (by: Client, { id, revision }: RequestDetail): Promise<RequestDetail> =>
  by.call('verdictGive', { params: { id }, body: { says: 'approve', revision } });

/** @returns the transfer, ended in one way or another */
async function deliver({ crew, client }: Story, { id, onto }: RequestDetail): Promise<string> {
  const { transfer } = await crew.odd.call('requestDeliver', { params: { id }, body: { when: 'now', confirm: onto } });
  const begun = await client.call('transferShow', { params: { id: transfer ?? '' } });
  await ended(client, begun).catch(() => undefined);
  return begun.id;
}

async function undo({ crew, client }: Story, transfer: string): Promise<void> {
  const { id, onto } = await crew.odd.call('forecastUndo', { params: { id: transfer }, body: {} });
  while ((await client.call('forecastShow', { params: { id } })).state === 'computing')
    await new Promise((resolve) => setTimeout(resolve, 50));
  const params = { id: transfer };
  await ended(client, await crew.odd.call('transferUndo', { params, body: { forecast: id, confirm: onto } }));
}
