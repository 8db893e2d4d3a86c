import { createHash, randomBytes } from 'node:crypto';
import { mkdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import pg from 'pg';
import { serialize } from 'php-serialize';
import { type ConfigFormat, type SiteConfig, writeConfig } from './config.js';
import { SCHEMA } from './schema.js';

/** What a new site shows. */
export interface SiteContent {
  readonly title: string;
  readonly colour: string;
  readonly pages: readonly { slug: string; title: string; body: string }[];
  readonly notices?: readonly { title: string; body: string }[];
  readonly products?: readonly { slug: string; title: string; description: string; price: string; stock: number }[];
  readonly sailings?: readonly { route: string; departs: string; vessel: string }[];
  readonly exhibitions?: readonly { title: string; body: string; opens: string; closes: string }[];
  readonly customers?: readonly { name: string; email: string; phone: string; street: string }[];
  readonly appointments?: readonly { name: string; email: string; phone: string; animal: string; complaint: string }[];
  /** Binary pictures of an archive. */
  readonly archive?: { readonly files: number; readonly bytes: number };
}

export interface NewSite {
  /** Folder of the environment; the root lies in `main` below it. */
  readonly folder: string;
  readonly format: ConfigFormat;
  readonly baseUrl: string;
  readonly database: SiteConfig['database'];
  readonly content: SiteContent;
}

const STYLE = (colour: string): string =>
  `:root{--c:${colour}}body{margin:0;font:16px/1.5 Georgia,serif;color:#222;background:#fdfcf9}header{background:var(--c);color:#fff;padding:20px 24px}header b{font-size:24px}nav a{color:#fff;margin-right:16px}main{max-width:860px;margin:0 auto;padding:24px}h1,h2{line-height:1.2}.grid{display:grid;grid-template-columns:repeat(auto-fill,minmax(160px,1fr));gap:20px}.product{color:inherit;text-decoration:none;display:grid;gap:4px}.product span{color:#666;font-size:14px}.notice{border-left:4px solid var(--c);padding-left:16px}table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:6px 12px 6px 0;border-bottom:1px solid #ddd}aside{margin-top:40px;padding:12px;background:#eee}form{margin:16px 0;display:flex;gap:12px;flex-wrap:wrap;align-items:end}footer{padding:24px;color:#666;text-align:center;font-size:14px}\n`;

const PAGE = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{ title }} · {{ site }}</title><link rel="stylesheet" href="/styles/site.css"></head>
<body><header><b>{{ site }}</b><nav>{{{ menu }}}</nav></header><main>{{{ body }}}</main><footer>{{ site }}, {{ base }} {{ testing }}</footer></body></html>
`;

/** A picture of a thing, drawn from its name. */
function picture(name: string, colour: string): string {
  const hash = createHash('sha256').update(name).digest();
  const [x, y, r] = [30 + (hash[0] as number) / 4, 30 + (hash[1] as number) / 4, 24 + (hash[2] as number) / 6];
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 160 160"><rect width="160" height="160" fill="hsl(${(hash[3] as number) + 20} 22% 84%)"/><rect x="${x / 2}" y="${y / 2}" width="${90 + r / 3}" height="${100 - r / 4}" fill="${colour}" opacity=".75"/><circle cx="${160 - x}" cy="${y}" r="${r}" fill="hsl(${hash[4]} 40% 45%)"/></svg>\n`;
}

/** Installs a site: its files below `folder`, its tables and content in an empty database. */
export async function installSite(site: NewSite): Promise<void> {
  const { content } = site;
  const root = join(site.folder, 'main');
  const write = (path: string, text: string | Buffer): void => {
    mkdirSync(dirname(join(root, path)), { recursive: true });
    writeFileSync(join(root, path), text);
  };
  const config = writeConfig(
    {
      baseUrl: site.baseUrl,
      database: site.database,
      mailMode: 'send',
      paymentMode: 'live',
      signingKey: randomBytes(24).toString('hex'),
      mapKey: `map-${randomBytes(6).toString('hex')}`,
    },
    site.format,
  );
  write(config.file, config.text);
  write('templates/page.html', PAGE);
  write('styles/site.css', STYLE(content.colour));
  write(
    'styles/links.css',
    `/* pictures by absolute address */\n.logo{background:url(${site.baseUrl}/media/logo.svg)}\n`,
  );
  write('media/logo.svg', picture(content.title, content.colour));
  write('media/uploads/readme.txt', 'Pictures that customers send lie here.\n');
  write('var/cache/.keep', '');
  write('var/log/.keep', '');
  for (const product of content.products ?? [])
    write(`media/products/${product.slug}.svg`, picture(product.slug, content.colour));
  for (let i = 0; i < (content.archive?.files ?? 0); i++)
    write(`media/archive/${String(i).padStart(4, '0')}.jpg`, randomBytes(content.archive?.bytes ?? 0));

  const { name, ...login } = site.database;
  const client = new pg.Client({ ...login, database: name });
  await client.connect();
  try {
    await client.query('BEGIN');
    await client.query(SCHEMA);
    await fill(client, site);
    await client.query('COMMIT');
  } finally {
    await client.end();
  }
}

async function fill(client: pg.Client, { content, baseUrl }: NewSite): Promise<void> {
  const put = (table: string, row: Record<string, unknown>): Promise<unknown> => {
    const columns = Object.keys(row);
    return client.query(
      `INSERT INTO ${table} (${columns.join(', ')}) VALUES (${columns.map((_name, i) => `$${i + 1}`).join(', ')})`,
      Object.values(row),
    );
  };
  for (const [position, page] of content.pages.entries())
    await put('page', { ...page, body: page.body.replaceAll('BASE', baseUrl), position });
  for (const notice of content.notices ?? []) await put('notice', notice);
  for (const product of content.products ?? [])
    await put('product', { ...product, image: `products/${product.slug}.svg` });
  for (const sailing of content.sailings ?? []) await put('sailing', sailing);
  for (const exhibition of content.exhibitions ?? []) await put('exhibition', exhibition);
  for (const [position, page] of content.pages.entries())
    await put('menu', {
      label: page.title,
      target: page.slug === 'home' ? '/' : `/page/${page.slug}`,
      page_id: position + 1,
      position,
    });
  await put('option', { name: 'site_title', value: content.title });
  await put('option', {
    name: 'footer_box',
    value: serialize({ title: 'Write to us', link: `${baseUrl}/page/contact`, note: 'Grüße aus dem Hafen' }),
  });
  await put('option', {
    name: 'feed',
    value: JSON.stringify({ url: `${baseUrl}/feed`, title: content.title }).replaceAll('/', '\\/'),
  });
  const hash = createHash('sha256').update('editor-of-the-demo').digest('hex');
  await put('editor', {
    login: 'editor',
    name: 'Tobin Hale',
    email: `editor@${new URL(baseUrl).hostname}`,
    password_hash: hash,
    role: 'editor',
  });
  for (const customer of content.customers ?? []) {
    await put('customer', { ...customer, password_hash: hash });
    await client.query(
      "INSERT INTO purchase (customer_id, total, payment_mode) SELECT max(id), 34, 'live' FROM customer",
    );
    await client.query(
      'INSERT INTO purchase_line (purchase_id, product_id, quantity, price) SELECT max(id), 1, 1, 34 FROM purchase',
    );
  }
  for (const { name, ...appointment } of content.appointments ?? [])
    await put('appointment', { owner_name: name, ...appointment, at: new Date(Date.now() + 86_400_000) });
  await client.query('INSERT INTO search_word (word, page_id) SELECT DISTINCT lower(title), id FROM page');
}
