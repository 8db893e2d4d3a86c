import { createHash, createHmac, randomBytes } from 'node:crypto';
import { appendFileSync, mkdirSync, readdirSync, statSync, writeFileSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { extname, join, normalize } from 'node:path';
import formbody from '@fastify/formbody';
import multipart from '@fastify/multipart';
import Fastify, { type FastifyInstance, type FastifyReply, type FastifyRequest } from 'fastify';
import pg from 'pg';
import { unserialize } from 'php-serialize';
import { readConfig, type SiteConfig } from './config.js';
import { html, render } from './render.js';

interface Site {
  readonly root: string;
  readonly config: SiteConfig;
  readonly pool: pg.Pool;
}

const TYPES: Record<string, string> = {
  '.css': 'text/css',
  '.svg': 'image/svg+xml',
  '.js': 'text/javascript',
  '.png': 'image/png',
  '.jpg': 'image/jpeg',
};

/**
 * A web server for many sites with a small content system. It finds a site by the base address in its settings
 * file: every folder below `base` with a `main/config` is a site. A site's settings are read again when they change.
 */
export class WebHost {
  readonly app: FastifyInstance = Fastify({ logger: false, bodyLimit: 5_000_000 });
  readonly #base: string;
  readonly #sites = new Map<string, Site & { stamp: string }>();
  #scanned = 0;

  constructor(base: string) {
    this.#base = base;
  }

  async listen(port: number): Promise<number> {
    await this.app.register(formbody);
    await this.app.register(multipart);
    this.app.setErrorHandler((error, _request, reply) => {
      reply
        .status(500)
        .type('text/html')
        .send(`<h1>This page is not available</h1><p>${html((error as Error).message)}</p>`);
    });
    this.#routes();
    await this.app.listen({ host: '127.0.0.1', port });
    const address = this.app.server.address();
    return typeof address === 'object' && address ? address.port : port;
  }

  async close(): Promise<void> {
    await this.app.close();
    for (const site of this.#sites.values()) await site.pool.end();
  }

  #scan(): void {
    if (Date.now() - this.#scanned < 250) return;
    this.#scanned = Date.now();
    const seen = new Set<string>();
    for (const name of readdirSync(this.#base)) {
      const root = join(this.#base, name, 'main');
      try {
        const stamp = readdirSync(join(root, 'config'))
          .map(
            (file) =>
              `${file} ${statSync(join(root, 'config', file)).mtimeMs} ${statSync(join(root, 'config', file)).ino}`,
          )
          .join();
        const known = [...this.#sites.values()].find((site) => site.root === root);
        if (known?.stamp === stamp) {
          seen.add(new URL(known.config.baseUrl).hostname);
          continue;
        }
        const config = readConfig(root);
        const { name: database, ...login } = config.database;
        const host = new URL(config.baseUrl).hostname;
        if (known) void known.pool.end();
        const pool = new pg.Pool({ ...login, database, max: 8 });
        pool.on('error', () => undefined);
        // One that is in use has nobody who listens; its next statement says that it is gone.
        pool.on('connect', (client) => client.on('error', () => undefined));
        this.#sites.set(host, { root, config, pool, stamp });
        seen.add(host);
      } catch {
        // A folder without readable settings is not a site (yet).
      }
    }
    for (const [host, site] of this.#sites) {
      if (seen.has(host)) continue;
      this.#sites.delete(host);
      void site.pool.end();
    }
  }

  #site(request: FastifyRequest): Site | undefined {
    this.#scan();
    return this.#sites.get(request.hostname.split(':')[0] ?? '');
  }

  #routes(): void {
    const on = (
      method: 'GET' | 'POST',
      url: string,
      answer: (site: Site, request: FastifyRequest, reply: FastifyReply) => Promise<unknown>,
    ): void => {
      this.app.route({
        method,
        url,
        handler: async (request, reply) => {
          const site = this.#site(request);
          if (!site) return reply.status(404).type('text/plain').send('No such site.\n');
          return answer(site, request, reply);
        },
      });
    };
    const page = async (site: Site, reply: FastifyReply, title: string, body: string): Promise<unknown> => {
      const [menu, name] = await Promise.all([
        site.pool.query('SELECT label, target FROM menu ORDER BY position, id'),
        option(site, 'site_title'),
      ]);
      const links = menu.rows
        .map((row: { label: string; target: string }) => `<a href="${html(row.target)}">${html(row.label)}</a>`)
        .join('');
      return reply.type('text/html; charset=utf-8').send(
        render(site.root, 'page.html', {
          title,
          site: name,
          menu: links,
          body,
          base: site.config.baseUrl,
          testing: site.config.paymentMode === 'test' ? 'Payments are in test mode.' : '',
        }),
      );
    };

    on('GET', '/', async (site, _request, reply) => {
      const home = await site.pool.query("SELECT title, body FROM page WHERE slug = 'home'");
      const sections = [
        home.rows[0]?.body ?? '',
        await noticeList(site),
        await productList(site),
        await sailingList(site),
        await exhibitionList(site),
        await widget(site),
      ];
      return page(site, reply, home.rows[0]?.title ?? 'Welcome', sections.join(''));
    });
    on('GET', '/page/:slug', async (site, request, reply) => {
      const { slug } = request.params as { slug: string };
      const found = await site.pool.query('SELECT title, body FROM page WHERE slug = $1', [slug]);
      if (!found.rows[0]) return reply.status(404).type('text/html').send('<h1>Not found</h1>');
      await site.pool.query(
        'INSERT INTO page_cache (path, html) VALUES ($1, $2) ON CONFLICT (path) DO UPDATE SET html = excluded.html, made_at = now()',
        [`/page/${slug}`, found.rows[0].body],
      );
      return page(site, reply, found.rows[0].title, `<h1>${html(found.rows[0].title)}</h1>${found.rows[0].body}`);
    });
    on('GET', '/product/:slug', async (site, request, reply) => {
      const { slug } = request.params as { slug: string };
      const found = await site.pool.query('SELECT * FROM product WHERE slug = $1', [slug]);
      const product = found.rows[0];
      if (!product) return reply.status(404).type('text/html').send('<h1>Not found</h1>');
      const reviews = await site.pool.query(
        'SELECT author, text, stars FROM review WHERE product_id = $1 ORDER BY id DESC LIMIT 5',
        [product.id],
      );
      const list = reviews.rows
        .map(
          (one: { author: string; text: string; stars: number }) =>
            `<blockquote>${'★'.repeat(one.stars)} ${html(one.text)} <cite>${html(one.author)}</cite></blockquote>`,
        )
        .join('');
      return page(
        site,
        reply,
        product.title,
        `<h1>${html(product.title)}</h1>${product.image ? `<img src="/media/${html(product.image)}" alt="" width="320">` : ''}<p>${product.description}</p><p><b>${product.price}</b> · ${product.stock} in stock</p><form method="post" action="/order"><input type="hidden" name="product" value="${product.id}"><label>Name <input name="name" required></label><label>Mail <input name="email" type="email" required></label><label>Quantity <input name="quantity" value="1" size="3"></label><button>Order</button></form>${list}`,
      );
    });

    on('POST', '/order', async (site, request, reply) => {
      const form = request.body as Record<string, string>;
      const quantity = Math.max(1, Number(form.quantity ?? 1));
      const client = await site.pool.connect();
      let order: { id: string; title: string };
      try {
        await client.query('BEGIN');
        const product = await client.query(
          'UPDATE product SET stock = stock - $2 WHERE id = $1 RETURNING id, title, price',
          [form.product, quantity],
        );
        const sold = product.rows[0];
        if (!sold) throw new Error('This product is not sold any more.');
        const customer = await client.query(
          'INSERT INTO customer (name, email, phone, street, password_hash) VALUES ($1, $2, $3, $4, $5) RETURNING id',
          [
            form.name,
            form.email,
            form.phone ?? null,
            form.street ?? null,
            createHash('sha256')
              .update(form.email ?? '')
              .digest('hex'),
          ],
        );
        const purchase = await client.query(
          'INSERT INTO purchase (customer_id, total, payment_mode, note) VALUES ($1, $2, $3, $4) RETURNING id',
          [customer.rows[0].id, Number(sold.price) * quantity, site.config.paymentMode, form.note ?? null],
        );
        await client.query(
          'INSERT INTO purchase_line (purchase_id, product_id, quantity, price) VALUES ($1, $2, $3, $4)',
          [purchase.rows[0].id, sold.id, quantity, sold.price],
        );
        await client.query('COMMIT');
        order = { id: purchase.rows[0].id, title: sold.title };
      } catch (error) {
        await client.query('ROLLBACK');
        throw error;
      } finally {
        // Before the page is made: it takes connections of its own, and all of them may be in such hands.
        client.release();
      }
      sendMail(site, form.email ?? '', `Your order ${order.id}`, `${quantity} × ${order.title}`);
      const isTest = site.config.paymentMode === 'test';
      return page(
        site,
        reply,
        'Thank you',
        `<h1>Thank you</h1><p>Order ${order.id} is on its way${isTest ? ' (test payment, nothing was charged)' : ''}.</p>`,
      );
    });
    on('POST', '/review', async (site, request, reply) => {
      const form = request.body as Record<string, string>;
      await site.pool.query('INSERT INTO review (product_id, author, email, text, stars) VALUES ($1, $2, $3, $4, $5)', [
        form.product,
        form.author,
        form.email,
        form.text,
        form.stars ?? 5,
      ]);
      return page(site, reply, 'Thank you', '<h1>Thank you</h1><p>Your review is published.</p>');
    });
    on('POST', '/book', async (site, request, reply) => {
      const form = request.body as Record<string, string>;
      const booking = await site.pool.query(
        'INSERT INTO booking (sailing_id, name, email, phone, seats) VALUES ($1, $2, $3, $4, $5) RETURNING id',
        [form.sailing, form.name, form.email, form.phone ?? null, form.seats ?? 1],
      );
      sendMail(site, form.email ?? '', `Your booking ${booking.rows[0].id}`, `${form.seats ?? 1} seats`);
      return page(site, reply, 'Booked', `<h1>Booked</h1><p>Your booking has number ${booking.rows[0].id}.</p>`);
    });
    on('POST', '/sign-up', async (site, request, reply) => {
      const form = request.body as Record<string, string>;
      await site.pool.query('INSERT INTO signup (email) VALUES ($1) ON CONFLICT DO NOTHING', [form.email]);
      return page(site, reply, 'Signed up', '<h1>Signed up</h1>');
    });
    on('POST', '/appointment', async (site, request, reply) => {
      const form = request.body as Record<string, string>;
      await site.pool.query(
        'INSERT INTO appointment (owner_name, email, phone, animal, complaint, at) VALUES ($1, $2, $3, $4, $5, $6)',
        [form.name, form.email, form.phone, form.animal, form.complaint, form.at],
      );
      return page(site, reply, 'Made', '<h1>Your appointment is made</h1>');
    });

    this.#editorRoutes(on, page);

    on('GET', '/media/*', async (site, request, reply) =>
      sendFile(site, 'media', (request.params as { '*': string })['*'], reply),
    );
    on('GET', '/styles/*', async (site, request, reply) =>
      sendFile(site, 'styles', (request.params as { '*': string })['*'], reply),
    );
  }

  #editorRoutes(
    on: (
      method: 'GET' | 'POST',
      url: string,
      answer: (site: Site, request: FastifyRequest, reply: FastifyReply) => Promise<unknown>,
    ) => void,
    page: (site: Site, reply: FastifyReply, title: string, body: string) => Promise<unknown>,
  ): void {
    const editorOf = async (
      site: Site,
      request: FastifyRequest,
    ): Promise<{ id: number; name: string; role: string } | undefined> => {
      const value = /(?:^|; )quay=([^;]+)/.exec(request.headers.cookie ?? '')?.[1];
      const [id, signature] = (value ?? '').split('.');
      if (!id || signature !== createHmac('sha256', site.config.signingKey).update(id).digest('hex')) return undefined;
      return (
        await site.pool.query(
          'SELECT editor.id, editor.name, editor.role FROM session JOIN editor ON editor.id = session.editor_id WHERE session.id = $1',
          [id],
        )
      ).rows[0];
    };
    on('GET', '/editor', async (site, request, reply) => {
      const editor = await editorOf(site, request);
      if (!editor)
        return page(
          site,
          reply,
          'Sign in',
          '<h1>Editors</h1><form method="post" action="/editor/sign-in"><label>Login <input name="login"></label><label>Password <input name="password" type="password"></label><button>Sign in</button></form>',
        );
      const pages = await site.pool.query('SELECT id, slug, title, body FROM page ORDER BY id');
      const forms = pages.rows.map(
        (one: { id: number; slug: string; title: string; body: string }) =>
          `<form method="post" action="/editor/page"><input type="hidden" name="id" value="${one.id}"><label>Title <input name="title" value="${html(one.title)}"></label><textarea name="body" rows="4" cols="60">${html(one.body)}</textarea><button>Save ${html(one.slug)}</button></form>`,
      );
      const sailings = await site.pool.query('SELECT id, route, departs, status FROM sailing ORDER BY id');
      const crew = sailings.rows.map(
        (one: { id: number; route: string; departs: string; status: string }) =>
          `<form method="post" action="/editor/sailing"><input type="hidden" name="id" value="${one.id}">${html(one.route)} ${html(one.departs)} <input name="status" value="${html(one.status)}"><button>Set</button></form>`,
      );
      return page(
        site,
        reply,
        'Editors',
        `<h1>Signed in as ${html(editor.name)}</h1>${forms.join('')}${crew.join('')}`,
      );
    });
    on('POST', '/editor/sign-in', async (site, request, reply) => {
      const form = request.body as Record<string, string>;
      const found = await site.pool.query('SELECT id FROM editor WHERE login = $1 AND password_hash = $2', [
        form.login,
        createHash('sha256')
          .update(form.password ?? '')
          .digest('hex'),
      ]);
      if (!found.rows[0]) return reply.status(403).type('text/html').send('<h1>Login or password is not right</h1>');
      const id = randomBytes(16).toString('hex');
      await site.pool.query('INSERT INTO session (id, editor_id) VALUES ($1, $2)', [id, found.rows[0].id]);
      return reply
        .header(
          'set-cookie',
          `quay=${id}.${createHmac('sha256', site.config.signingKey).update(id).digest('hex')}; Path=/; HttpOnly; SameSite=Lax`,
        )
        .redirect('/editor', 303);
    });
    on('POST', '/editor/page', async (site, request, reply) => {
      const editor = await editorOf(site, request);
      if (!editor) return reply.status(403).send('Sign in first.');
      const form = request.body as Record<string, string>;
      await site.pool.query(
        'UPDATE page SET title = $2, body = $3, updated_at = now(), updated_by = $4 WHERE id = $1',
        [form.id, form.title, form.body, editor.id],
      );
      await site.pool.query('DELETE FROM page_cache');
      return reply.redirect('/editor', 303);
    });
    on('POST', '/editor/sailing', async (site, request, reply) => {
      const editor = await editorOf(site, request);
      if (!editor) return reply.status(403).send('Sign in first.');
      const form = request.body as Record<string, string>;
      await site.pool.query('UPDATE sailing SET status = $2, status_at = now() WHERE id = $1', [form.id, form.status]);
      return reply.redirect('/editor', 303);
    });
    on('POST', '/editor/upload', async (site, request, reply) => {
      if (!(await editorOf(site, request))) return reply.status(403).send('Sign in first.');
      const file = await request.file();
      if (!file) return reply.status(400).send('No file.');
      mkdirSync(join(site.root, 'media/uploads'), { recursive: true });
      writeFileSync(join(site.root, 'media/uploads', file.filename.replace(/[^\w.-]/g, '_')), await file.toBuffer());
      return reply.redirect('/editor', 303);
    });
  }
}

/** Sends a file below one folder of a site, and nothing beside it. */
async function sendFile(site: Site, folder: string, path: string, reply: FastifyReply): Promise<unknown> {
  const safe = normalize(`${folder}/${path}`);
  if (!safe.startsWith(`${folder}/`)) return reply.status(404).type('text/plain').send('Not found\n');
  try {
    return await reply
      .type(TYPES[extname(safe)] ?? 'application/octet-stream')
      .send(await readFile(join(site.root, safe)));
  } catch {
    return reply.status(404).type('text/plain').send('Not found\n');
  }
}

async function option(site: Site, name: string): Promise<string> {
  return (await site.pool.query('SELECT value FROM option WHERE name = $1', [name])).rows[0]?.value ?? '';
}

/** A box whose settings are stored as a serialised value, as many content systems do. */
async function widget(site: Site): Promise<string> {
  const stored = await option(site, 'footer_box');
  if (stored === '') return '';
  const box = unserialize(stored) as { title: string; link: string };
  return `<aside><b>${html(box.title)}</b> <a href="${html(box.link)}">${html(box.link)}</a></aside>`;
}

async function noticeList(site: Site): Promise<string> {
  const rows = await site.pool.query('SELECT title, body FROM notice ORDER BY published_at DESC LIMIT 3');
  return rows.rows
    .map(
      (one: { title: string; body: string }) =>
        `<section class="notice"><h2>${html(one.title)}</h2>${one.body}</section>`,
    )
    .join('');
}

async function productList(site: Site): Promise<string> {
  const rows = await site.pool.query('SELECT slug, title, price, stock, image FROM product ORDER BY id LIMIT 12');
  if (rows.rows.length === 0) return '';
  const cells = rows.rows.map(
    (one: { slug: string; title: string; price: string; stock: number; image: string | null }) =>
      `<a class="product" href="/product/${html(one.slug)}">${one.image ? `<img src="/media/${html(one.image)}" alt="" width="140" height="140">` : ''}<b>${html(one.title)}</b><span>${one.price} · ${one.stock} in stock</span></a>`,
  );
  return `<div class="grid">${cells.join('')}</div>`;
}

async function sailingList(site: Site): Promise<string> {
  const rows = await site.pool.query('SELECT id, route, departs, vessel, status FROM sailing ORDER BY departs, id');
  if (rows.rows.length === 0) return '';
  const lines = rows.rows.map(
    (one: { id: number; route: string; departs: string; vessel: string; status: string }) =>
      `<tr><td>${html(one.departs.slice(0, 5))}</td><td>${html(one.route)}</td><td>${html(one.vessel)}</td><td>${html(one.status)}</td></tr>`,
  );
  return `<table><tr><th>Departs</th><th>Route</th><th>Vessel</th><th>Status</th></tr>${lines.join('')}</table>`;
}

async function exhibitionList(site: Site): Promise<string> {
  const rows = await site.pool.query(
    "SELECT title, body, to_char(opens, 'DD Mon') AS opens, to_char(closes, 'DD Mon YYYY') AS closes FROM exhibition ORDER BY opens",
  );
  return rows.rows
    .map(
      (one: { title: string; body: string; opens: string; closes: string }) =>
        `<section><h2>${html(one.title)}</h2><p>${html(one.opens)} to ${html(one.closes)}</p>${one.body}</section>`,
    )
    .join('');
}

/** Mail leaves the site, or is caught in a file, as its settings say. */
function sendMail(site: Site, to: string, subject: string, text: string): void {
  const folder = join(site.root, 'var/log');
  mkdirSync(folder, { recursive: true });
  appendFileSync(
    join(folder, site.config.mailMode === 'send' ? 'sent-mail.log' : 'caught-mail.log'),
    `${new Date().toISOString()} ${to}: ${subject}: ${text}\n`,
  );
}
