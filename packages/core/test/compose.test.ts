import { classify, composeLayers, effectiveText, type NamedLayer, readLayer } from '../src/index.js';
import { describe, expect, it } from './support.js';

const BASE = `tessarion: profile/1
name: quayside
title: The base
areas:
  - { name: code, path: ., class: authored }
  - { name: media, path: media, class: authored }
databases:
  main:
    tables:
      page: { class: authored }
      product:
        class: authored
        columns: { stock: { class: collected } }
items:
  - { kind: page, table: page, title: title }
pages:
  - { path: /, contains: open }
`;
const PART = `tessarion: part/1
name: gift-cards
title: What the gift cards bring along
databases:
  main:
    tables:
      "gift_*": { class: collected }
      gift_design: { class: authored }
      product: { columns: { is_gift: { rewrite: never } } }
references:
  - { from: gift_card.product_id, to: product.id }
`;
const OWN = `tessarion: profile/1
name: threadmill
title: Threadmill's own lines
base: quayside
parts: [gift-cards]
areas:
  - { name: media, path: media, class: collected }
databases:
  main:
    tables:
      product: { class: collected }
pages:
  - { path: /, contains: weaving }
  - { path: /shop }
`;

function layer(text: string, version = 1): NamedLayer {
  const read = readLayer(text);
  if (!read.ok) throw new Error(JSON.stringify(read.mistakes));
  return { name: read.layer.document.name, version, ...read.layer };
}

describe('a profile of several layers', () => {
  it('is composed thing by thing: the later layer counts, and adds to what it does not name', () => {
    const composed = composeLayers([layer(BASE, 5), layer(PART), layer(OWN, 2)]);
    if (!composed.ok) throw new Error(JSON.stringify(composed.mistakes));
    const { profile, origins } = composed;
    expect(profile).toMatchObject({ name: 'threadmill', title: "Threadmill's own lines" });
    expect(profile.areas.map((area) => [area.name, area.class])).toEqual([
      ['code', 'authored'],
      ['media', 'collected'],
    ]);
    expect(profile.databases?.main?.tables.product).toEqual({
      class: 'collected',
      columns: { stock: { class: 'collected' }, is_gift: { rewrite: 'never' } },
    });
    expect(profile.databases?.main?.tables['gift_*']?.class).toBe('collected');
    expect(profile.pages).toEqual([{ path: '/', contains: 'weaving' }, { path: '/shop' }]);
    expect(profile.items).toHaveLength(1);
    const from = (path: string) => origins.get(path)?.map((one) => `${one.name} ${one.version}`);
    expect(from('databases.main.tables.product')).toEqual(['quayside 5', 'gift-cards 1', 'threadmill 2']);
    expect(from('databases.main.tables.gift_design')).toEqual(['gift-cards 1']);
    expect(from('areas[1]')).toEqual(['threadmill 2']);
    const text = effectiveText(profile, origins);
    expect(text).toMatch(/# quayside 5, gift-cards 1, threadmill 2\n\s+product:/);
    expect(text).toMatch(/# gift-cards 1\n\s+gift_design:/);
    const again = readLayer(text);
    expect(again.ok && again.layer.document.databases).toEqual(profile.databases);
  });

  it('names a mistake by the layer and line that it stands in', () => {
    const lost = PART.replace('to: product.id', 'to: parcel.id');
    const composed = composeLayers([layer(BASE), layer(lost), layer(OWN)]);
    expect(composed).toEqual({
      ok: false,
      mistakes: [
        expect.objectContaining({ layer: 'gift-cards', line: 11, message: expect.stringContaining('"parcel"') }),
      ],
    });
    const without = composeLayers([
      layer(BASE),
      layer(PART.replace('gift_design: { class: authored }', 'gift_design: {}')),
    ]);
    expect(!without.ok && without.mistakes[0]).toMatchObject({
      layer: 'gift-cards',
      path: expect.stringContaining('gift_design'),
    });
  });

  it('is read layer by layer: a part stands on nothing, a profile without a base needs areas', () => {
    expect(readLayer(`${PART}base: quayside\n`)).toMatchObject({
      ok: false,
      mistakes: [{ message: 'a part stands on nothing else' }],
    });
    expect(readLayer('tessarion: profile/1\nname: x\ntitle: x\n')).toMatchObject({
      ok: false,
      mistakes: [{ path: 'areas' }],
    });
    expect(readLayer('tessarion: profile/1\nname: x\ntitle: x\nbase: y\n').ok).toBe(true);
  });

  it('gets a class for a table and keeps every other word', () => {
    const text = BASE.replace('items:', '# What people see.\nitems:');
    const changed = classify(text, 'main', 'coupon', 'collected');
    expect(changed).toContain('coupon: { class: collected }');
    expect(changed).toContain('# What people see.');
    expect(classify(changed, 'main', 'coupon', 'authored')).toContain('coupon: { class: authored }');
    expect(classify(text, 'main', 'product', 'local')).toMatch(/product:\n\s+class: local\n\s+columns:/);
    const kept = readLayer(changed);
    expect(kept.ok && kept.layer.document.databases?.main?.tables.product).toEqual({
      class: 'authored',
      columns: { stock: { class: 'collected' } },
    });
    expect(classify('tessarion: profile/1\nname: x\ntitle: x\nbase: y\n', 'main', 't', 'local')).toMatch(
      /databases:\n\s+main:\n\s+tables:\n\s+t: \{ class: local \}/,
    );
  });
});
