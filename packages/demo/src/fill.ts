import { randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { Client, followEvents } from '@tessarion/client';
import type { BodyOf, ForecastWishes, Transfer } from '@tessarion/contract';
import { installSite, makeDatabase, onDatabase, type ServerLogin } from '@tessarion/demo-site';
import pg from 'pg';
import { signIn } from './people.js';
import { DEMO_PERSON, DEMO_SITES, type DemoSite } from './scenario.js';
import { visit } from './visitors.js';

export interface DemoPlace {
  readonly hosts: string;
  readonly server: ServerLogin;
  readonly webHostPort: number;
  readonly gatewayPort: number;
  readonly url: string;
}

/** What is known before the service runs. */
export type HostPlace = Omit<DemoPlace, 'url'>;

/** Waits until a transfer has ended well. @throws when it did not */
export async function ended(client: Client, transfer: Transfer): Promise<void> {
  const abort = new AbortController();
  const events = followEvents(client, abort.signal);
  try {
    for (;;) {
      const now = await client.call('transferShow', { params: { id: transfer.id } });
      if (now.state === 'done') return;
      if (now.state === 'failed' || now.state === 'stopped')
        throw new Error(`${now.kind} onto ${now.onto}: ${now.failure?.message ?? now.state}`);
      await Promise.race([events.next(), new Promise((resolve) => setTimeout(resolve, 300))]);
    }
  } finally {
    abort.abort();
  }
}

/** Makes the first administrator and returns a client that acts as her. */
export async function becomeAdministrator(
  url: string,
  firstKey: string,
  password: string,
): Promise<{ client: Client; token: string }> {
  const open = new Client({ url });
  await open.call('firstAdministrator', { body: { key: firstKey, ...DEMO_PERSON, password } });
  const signed = await signIn(url, DEMO_PERSON.mail, password);
  const token = await signed.call('tokenCreate', { body: { name: 'demo' } });
  return { client: new Client({ url, token: token.value }), token: token.value };
}

const PROFILES = { env: 'quayside', ini: 'quayside-ini', json: 'quayside-json' } as const;

/** No site's login has anything to do in databases that are none's. */
async function keepToTheirOwn({ server }: DemoPlace): Promise<void> {
  const client = new pg.Client({ ...server, database: 'postgres' });
  await client.connect();
  await client.query('REVOKE CONNECT ON DATABASE postgres, template1 FROM PUBLIC').finally(() => client.end());
}

/** Saves the demo's profiles and adds its server. */
export async function prepareStudio(client: Client, place: DemoPlace, profiles: string): Promise<void> {
  for (const name of Object.values(PROFILES))
    await client.call('profileSave', {
      params: { name },
      body: { text: await fs.readFile(join(profiles, `${name}.yaml`), 'utf8') },
      etag: null,
    });
  await keepToTheirOwn(place);
  await client.call('serverCreate', {
    body: {
      name: 'harbour-1',
      folder: place.hosts,
      baseDomain: 'localhost',
      webHost: { host: '127.0.0.1', port: place.webHostPort },
      database: {
        host: place.server.host,
        port: place.server.port,
        user: place.server.user,
        password: place.server.password,
      },
    },
  });
}

/** Installs a site at the web host. @returns what there is to say of it when it is brought in */
export async function install(place: HostPlace, site: DemoSite): Promise<BodyOf<'siteAdopt'>> {
  const folder = join(place.hosts, `${site.name}--live`);
  const database = {
    host: place.server.host,
    port: place.server.port,
    name: `${site.name}_live`,
    user: `${site.name}_live`,
    password: randomBytes(12).toString('base64url'),
  };
  const baseUrl = `http://${site.name}.localhost:${place.gatewayPort}`;
  await makeDatabase(place.server, database.name, database.password);
  await installSite({ folder, format: site.format, baseUrl, database, content: site.content });
  const { name, ...login } = database;
  return {
    name: site.name,
    client: site.client,
    timeZone: 'Europe/Oslo',
    profile: PROFILES[site.format],
    server: 'harbour-1',
    folder,
    addresses: [{ name: 'main', url: baseUrl }],
    databases: [{ name: 'main', database: name, ...login }],
  };
}

/** Installs a site at the web host and brings it in. */
export async function bringIn(client: Client, place: DemoPlace, site: DemoSite): Promise<void> {
  await ended(client, await client.call('siteAdopt', { body: await install(place, site) }));
}

/** How far it is, in numbers that grow. */
export interface Filled {
  readonly sites: number;
  readonly copies: number;
}

/** What there is to make. */
export const DEMO_SIZE: Filled = {
  sites: DEMO_SITES.length,
  copies: DEMO_SITES.reduce((sum, site) => sum + site.copies.length, 0),
};

/** How many sites are worked on beside each other: more wait for the same processors. */
const AT_ONCE = 6;

/** Installs all sites at the web host; it needs nobody but the database server. */
export async function installAll(place: HostPlace): Promise<Installed> {
  const installed = new Map<string, BodyOf<'siteAdopt'>>();
  await inTurns(DEMO_SITES, AT_ONCE, async (site) => {
    installed.set(site.name, await install(place, site));
  });
  return installed;
}

export type Installed = ReadonlyMap<string, BodyOf<'siteAdopt'>>;

/** Fills the studio: sites, copies, and the work that is going on in them. */
export async function fillStudio(
  client: Client,
  place: DemoPlace,
  installed: Installed,
  show: (filled: Filled) => void,
): Promise<void> {
  const filled = { sites: 0, copies: 0 };
  let asked = Promise.resolve();
  await inTurns(DEMO_SITES, AT_ONCE, async (site) => {
    // Asked for one after the other: a site keeps its place in the mosaic.
    const adopting = asked.then(() =>
      client.call('siteAdopt', { body: installed.get(site.name) as BodyOf<'siteAdopt'> }),
    );
    asked = adopting.then(() => undefined);
    await ended(client, await adopting);
    show({ ...filled, sites: ++filled.sites });
    await Promise.all(
      site.copies.map(async (body) => {
        await ended(client, await client.call('environmentCreate', { params: { site: site.name }, body }));
        show({ ...filled, copies: ++filled.copies });
      }),
    );
  });
  await workInCopies(place);
  await liveGoesOn(place);
  await history(client, place);
  // A disk that is not mounted any more: the next round finds that this site is not reached.
  await fs.rename(join(place.hosts, 'windrow--live'), join(place.hosts, 'windrow--live.not-mounted'));
}

async function inTurns<T>(list: readonly T[], atOnce: number, job: (one: T) => Promise<void>): Promise<void> {
  const waiting = [...list];
  await Promise.all(
    Array.from({ length: atOnce }, async () => {
      for (let one = waiting.shift(); one !== undefined; one = waiting.shift()) await job(one);
    }),
  );
}

/** The half-finished autumn collection, and small work elsewhere. */
async function workInCopies(place: DemoPlace): Promise<void> {
  const folder = (path: string): string => join(place.hosts, path.replace('/', '--'));
  await onDatabase(folder('threadmill/staging'), async (query) => {
    await query(`INSERT INTO product (slug, title, description, price, image, stock) VALUES
      ('walnut-shuttle', 'Walnut shuttle', 'Turned from one piece, for small looms.', 19.00, 'products/walnut-shuttle.svg', 0),
      ('table-runner', 'Table runner, russet', 'Woven for the harvest table.', 48.00, 'products/table-runner.svg', 0),
      ('autumn-wreath', 'Autumn wreath kit', 'Willow, hops and ribbon.', 27.50, 'products/autumn-wreath.svg', 0)`);
    await query(
      "UPDATE product SET description = 'Heavy linen apron, dyed ochre, with two deep pockets. Wash at 40°.', price = 38.00 WHERE slug = 'linen-apron'",
    );
    await query("UPDATE product SET price = 94.00 WHERE slug = 'wool-throw'");
    await query("UPDATE product SET price = 152.00 WHERE slug = 'shepherds-blanket'");
    await query(
      "INSERT INTO page (slug, title, body, position) VALUES ('autumn', 'Autumn collection', '<p>Russet, walnut and heather.</p>', 9)",
    );
    await query(
      "INSERT INTO menu (label, target, page_id, position) SELECT 'Autumn', '/page/autumn', id, 1 FROM page WHERE slug = 'autumn'",
    );
    // Sold on live meanwhile: it cannot go.
    await query("DELETE FROM product WHERE slug = 'tea-towel'");
    await query(
      "UPDATE page SET body = '<h1>The colours of the year’s end</h1><p>Woven, dyed and sewn by the harbour.</p>' WHERE slug = 'home'",
    );
  });
  const main = join(folder('threadmill/staging'), 'main');
  for (const name of ['walnut-shuttle', 'table-runner', 'autumn-wreath'])
    await fs.copyFile(join(main, 'media/products/wool-throw.svg'), join(main, `media/products/${name}.svg`));
  await fs.appendFile(join(main, 'styles/site.css'), '.product b{font-variant:small-caps}\n');
  await onDatabase(folder('saltmarsh/staging'), async (query) => {
    await query(
      "UPDATE page SET body = '<p>From 7 December the last boat leaves Nesodd Pier at 20:10.</p>' WHERE slug = 'winter'",
    );
    await query("UPDATE sailing SET departs = '20:10' WHERE departs = '19:40'");
  });
  await onDatabase(folder('driftline/staging'), async (query) => {
    await query("UPDATE page SET title = 'Winter tours', body = '<p>Dry suits included.</p>' WHERE slug = 'about'");
  });
  await onDatabase(folder('pendulum/front-a'), async (query) => {
    await query("UPDATE page SET body = '<h1>Hear four hundred clocks strike noon</h1>' WHERE slug = 'home'");
  });
  await onDatabase(folder('pendulum/front-b'), async (query) => {
    await query("UPDATE page SET body = '<h1>What time was it, once?</h1>' WHERE slug = 'home'");
  });
}

async function liveGoesOn(place: DemoPlace): Promise<void> {
  for (let i = 1; i <= 6; i++)
    await visit(place.gatewayPort, 'threadmill.localhost', '/order', {
      product: String(i),
      name: 'Aud Lindgren',
      email: 'aud.lindgren@post.example',
      quantity: '1',
      street: '7 Cask Yard',
    });
  for (let i = 1; i <= 3; i++)
    await visit(place.gatewayPort, 'saltmarsh.localhost', '/book', {
      sailing: String(i),
      name: 'Bram Visser',
      email: 'bram.visser@brief.example',
      seats: '2',
    });
  await onDatabase(join(place.hosts, 'threadmill--live'), async (query) => {
    await query(
      "UPDATE product SET description = 'Heavy linen apron with two pockets. Wash at 30°, dry flat.' WHERE slug = 'linen-apron'",
    );
    // Takes the number that the autumn page has in staging.
    await query(
      "INSERT INTO page (slug, title, body, position) VALUES ('harvest-fair', 'Harvest fair', '<p>On the quay, 5 December.</p>', 8)",
    );
    await query(
      "INSERT INTO review (product_id, author, email, text, stars) VALUES (2, 'Aud Lindgren', 'aud.lindgren@post.example', 'Warm, and it does not shed.', 5)",
    );
  });
  await onDatabase(join(place.hosts, 'saltmarsh--live'), async (query) => {
    await query("UPDATE sailing SET status = '10 min late', status_at = now() WHERE departs = '09:30'");
  });
}

/** Transfers that succeeded and failed, snapshots, forecasts: made by the real operations. */
async function history(client: Client, place: DemoPlace): Promise<void> {
  const take = async (environment: string, reason: string): Promise<void> =>
    ended(client, await client.call('snapshotTake', { body: { environment, reason } }));
  await Promise.all([
    take('threadmill/live', 'before the autumn collection'),
    take('pendulum/live', 'monthly'),
    brokenPush(client, place),
    forecastOf(client, 'threadmill/staging', 'threadmill/live'),
    forecastOf(client, 'saltmarsh/staging', 'saltmarsh/live'),
    forecastOf(client, 'pendulum/front-a', 'pendulum/live'),
    forecastOf(client, 'pendulum/front-b', 'pendulum/live'),
    forecastOf(client, 'driftline/staging', 'driftline/live').then(async (forecast) =>
      ended(client, await client.call('pushCreate', { body: { forecast, confirm: 'driftline/live' } })),
    ),
  ]);
}

/** Makes a forecast and waits for it. @returns its id */
export async function forecastOf(
  client: Client,
  from: string,
  onto: string,
  wishes: Partial<ForecastWishes> = {},
): Promise<string> {
  const { id } = await client.call('forecastCreate', { body: { from, onto, wishes } });
  while ((await client.call('forecastShow', { params: { id } })).state === 'computing')
    await new Promise((resolve) => setTimeout(resolve, 50));
  return id;
}

/** A push whose page is not well afterwards: it is taken back by itself, and waits to be seen. */
async function brokenPush(client: Client, place: DemoPlace): Promise<void> {
  const template = join(place.hosts, 'millrace--staging/main/templates/page.html');
  await fs.writeFile(template, (await fs.readFile(template, 'utf8')).replace('<main>', '<section>'));
  const transfer = await client.call('pushCreate', {
    body: { forecast: await forecastOf(client, 'millrace/staging', 'millrace/live'), confirm: 'millrace/live' },
  });
  await ended(client, transfer).catch(() => undefined);
}
