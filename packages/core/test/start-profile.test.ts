import { checkProfile, type SiteFacts, speaksOf, startProfile, type TableFacts } from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

type Columns = Record<string, string | readonly [string, readonly string[]]>;

/** A table whose columns are `type`, or `[type, samples]`. */
function table(name: string, columns: Columns, more: Partial<TableFacts> = {}): TableFacts {
  return {
    name,
    columns: Object.entries(columns).map(([column, one]) => {
      const [type, samples] = typeof one === 'string' ? [one, []] : one;
      return { name: column, type, isText: type === 'text', isNullable: true, samples };
    }),
    key: ['id'],
    drawsKey: true,
    uniques: [],
    references: [],
    rows: 10,
    written: undefined,
    history: [],
    lookups: [],
    ...more,
  };
}
const site = (tables: readonly TableFacts[], more: Partial<SiteFacts> = {}): SiteFacts => ({
  databases: [{ name: 'main', tables }],
  folders: [],
  texts: [],
  configurations: [],
  ...more,
});

function start(facts: SiteFacts) {
  const started = startProfile('shop', 'A shop', facts);
  const checked = checkProfile(started.text);
  if (!checked.ok) throw new Error(`${JSON.stringify(checked.mistakes)}\n${started.text}`);
  return { ...started, profile: checked.profile, tables: checked.profile.databases?.main?.tables ?? {} };
}

describe('a first profile', () => {
  it('finds classes by names, columns, references and growth, and leaves open what is uncertain', () => {
    const { tables, findings, text } = start(
      site([
        table('cms_articles', { id: 'int', slug: 'text', title: 'text', body: 'text' }, { uniques: [['slug']] }),
        table('cms_orders', { id: 'int', email: ['text', ['a@b.example', 'c@d.example']], placed_at: 'timestamp' }),
        table(
          'cms_order_lines',
          { id: 'int', order_id: 'int', quantity: 'int' },
          {
            references: [{ column: 'order_id', table: 'cms_orders', target: 'id' }],
          },
        ),
        table('cms_sessions', { id: 'text', expires_at: 'timestamp' }, { drawsKey: false }),
        table('cms_page_cache', { id: 'text', checksum: 'text' }, { drawsKey: false }),
        table('cms_settings', { id: 'int', name: 'text', value: 'text' }),
        table('xq_17', { id: 'int', a: 'int' }),
        table(
          'sightings',
          { id: 'int', ip: ['text', ['10.0.0.1', '10.0.0.2']], user_agent: 'text' },
          {
            history: [
              { at: '2026-01-01', rows: 10 },
              { at: '2026-02-01', rows: 50 },
            ],
          },
        ),
      ]),
    );
    expect(Object.fromEntries(Object.entries(tables).map(([name, rule]) => [name, rule.class]))).toEqual({
      cms_articles: 'authored',
      cms_orders: 'collected',
      cms_order_lines: 'collected',
      cms_sessions: 'local',
      cms_page_cache: 'derived',
      cms_settings: 'unclassified',
      xq_17: 'unclassified',
      sightings: 'collected',
    });
    expect(tables.cms_articles?.['natural-key']).toEqual(['slug']);
    expect(tables.cms_orders?.columns?.email?.personal).toBe('mail');
    expect(tables.sightings?.columns?.ip?.personal).toBe('internet-address');
    expect(tables.cms_settings?.columns?.name, 'a name of a thing').toBeUndefined();
    expect(findings.find((one) => one.what === 'table sightings')?.reason).toContain('grew from 10 to 50 rows');
    expect(findings.find((one) => one.what === 'table cms_order_lines')?.reason).toContain('refers to cms_orders');
    expect(text).toContain('#   table xq_17: nothing speaks for any class');
  });

  it('writes references whose values are there, also by type and inside documents; others stay open', () => {
    const lookup = (column: string, asked: number, found: number, more = {}) => ({
      column,
      path: undefined,
      when: undefined,
      table: 'product',
      target: 'id',
      asked,
      found,
      ...more,
    });
    const { profile, findings } = start(
      site([
        table('product', { id: 'int', title: 'text' }),
        table(
          'page',
          {
            id: 'int',
            title: 'text',
            product_id: 'int',
            owner_id: 'int',
            owner_type: 'text',
            blocks: 'text',
            related: 'int',
            other: 'int',
          },
          {
            lookups: [
              lookup('product_id', 40, 40),
              lookup('owner_id', 6, 6, { when: { column: 'owner_type', value: 'Product' } }),
              lookup('blocks', 12, 12, { path: '$.rows[*].product' }),
              lookup('related', 40, 12),
              lookup('other', 0, 0),
            ],
          },
        ),
      ]),
    );
    expect(profile.references).toEqual([
      { from: 'page.product_id', to: 'product.id' },
      { from: 'page.owner_id', to: 'product.id', when: { owner_type: ['Product'] } },
      { from: 'page.blocks', to: 'product.id', path: '$.rows[*].product' },
    ]);
    expect(
      findings.filter((one) => one.what.startsWith('reference') && one.certainty === 'open').map((one) => one.what),
    ).toEqual(['reference page.related', 'reference page.other']);
  });

  it('knows things from their parts, your own people from customers, and settings from content', () => {
    const { profile, tables } = start(
      site(
        [
          table('product', { id: 'int', title: 'text', stock: 'integer', updated_at: 'timestamp', slug: 'text' }),
          {
            ...table(
              'product_variant',
              { id: 'int', product_id: 'int', name: 'text' },
              {
                references: [{ column: 'product_id', table: 'product', target: 'id' }],
              },
            ),
            columns: [
              { name: 'product_id', type: 'int', isText: false, isNullable: false, samples: [] },
              { name: 'name', type: 'text', isText: true, isNullable: false, samples: [] },
            ],
          },
          table('editors', { id: 'int', login: 'text', name: 'text', email: 'text', password_hash: 'text' }),
        ],
        {
          folders: [
            { path: 'media', files: 20 },
            { path: 'media/uploads', files: 3 },
            { path: 'var/cache', files: 100 },
          ],
          texts: ['templates/base.html', 'robots.txt'],
          configurations: [
            {
              file: '.env',
              format: 'env',
              keys: [
                { key: 'URL', is: { address: 'main', as: 'url' } },
                { key: 'DB_PASSWORD', is: { database: 'main', part: 'password' } },
                { key: 'APP_SECRET', is: undefined },
                { key: 'PAYMENT_MODE', is: undefined },
              ],
            },
          ],
        },
      ),
    );
    expect(profile.items).toEqual([
      {
        kind: 'product',
        table: 'product',
        title: 'title',
        changed: { at: 'updated_at' },
        dependants: [{ table: 'product_variant', column: 'product_id' }],
      },
      { kind: 'editor', table: 'editors', title: 'name' },
    ]);
    expect(tables.product?.columns?.stock?.class).toBe('collected');
    expect(tables.editors?.staff).toEqual({ id: ['*'] });
    expect(tables.editors?.columns?.password_hash, 'staff keep their logins').toBeUndefined();
    expect(profile.areas.map((area) => [area.path, area.class, area.text])).toEqual([
      ['.', 'authored', ['robots.txt', 'templates/**']],
      ['media', 'authored', undefined],
      ['media/uploads', 'unclassified', undefined],
      ['var/cache', 'derived', undefined],
    ]);
    expect(profile.settings?.map((one) => [one.in, one.from])).toEqual([
      [
        { file: '.env', format: 'env', key: 'URL' },
        { address: 'main', as: 'url' },
      ],
      [
        { file: '.env', format: 'env', key: 'DB_PASSWORD' },
        { database: 'main', part: 'password' },
      ],
      [{ file: '.env', format: 'env', key: 'APP_SECRET' }, { generate: 'key' }],
    ]);
  });

  it('is a right profile whatever the site is like, and never holds a value that it saw', () => {
    const word = fc.stringMatching(/^[a-zA-Z_][a-zA-Z0-9_ "'$.-]{0,20}$/);
    const secret = fc.stringMatching(/^[A-Z]{8}$/).map((text) => `seen-${text}@post.example`);
    const column = fc.record({
      name: fc.oneof(word, fc.constantFrom('email', 'name', 'stock', 'slug', 'title', 'password', 'page_id', 'ip')),
      type: fc.constantFrom('text', 'integer', 'jsonb', 'timestamp'),
      isText: fc.boolean(),
      isNullable: fc.boolean(),
      samples: fc.array(secret, { maxLength: 4 }),
    });
    const someTable = fc
      .record({
        name: fc.oneof(word, fc.constantFrom('page', 'order', 'user', 'editor')),
        columns: fc.uniqueArray(column, { maxLength: 6, minLength: 1, selector: (one) => one.name }),
        drawsKey: fc.boolean(),
        rows: fc.nat(),
        ask: fc.nat(9),
      })
      .map(
        ({ name, columns, drawsKey, rows, ask }): TableFacts => ({
          ...table(name, {}),
          columns,
          key: [columns[0]?.name as string],
          drawsKey,
          rows,
          uniques: columns.map((one) => [one.name]),
          lookups: [
            {
              column: columns[0]?.name as string,
              path: undefined,
              when: undefined,
              table: name,
              target: 'id',
              asked: ask,
              found: ask,
            },
          ],
        }),
      );
    fc.assert(
      fc.property(
        fc.uniqueArray(someTable, { maxLength: 5, selector: (one) => one.name }),
        fc.array(word),
        (tables, folders) => {
          const { text } = start(
            site(tables, { folders: folders.map((path) => ({ path, files: 1 })), texts: folders }),
          );
          expect(text).not.toContain('seen-');
        },
      ),
      { numRuns: 300 },
    );
  });

  it('tells by a name what it speaks of', () => {
    for (const [name, of] of [
      ['product_id', 'product'],
      ['productId', 'products'],
      ['remark_post_id', 'x_posts'],
      ['page', 'page'],
      ['category_id', 'shop_categories'],
    ] as const)
      expect(speaksOf(name, of), `${name} ${of}`).toBe(true);
    for (const [name, of] of [
      ['id', 'product'],
      ['position', 'post'],
      ['title', 'page'],
      ['product_name', 'product'],
    ] as const)
      expect(speaksOf(name, of), `${name} ${of}`).toBe(false);
  });
});
