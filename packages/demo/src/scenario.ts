import type { SiteContent } from '@tessarion/demo-site';

/** One site of the demo studio's clients. Everything here is made up. */
export interface DemoSite {
  readonly name: string;
  readonly client: string;
  readonly format: 'env' | 'ini' | 'json';
  readonly copies: readonly { readonly name: string; readonly kind: 'dev' | 'staging' }[];
  readonly content: SiteContent;
}

const contact = {
  slug: 'contact',
  title: 'Contact',
  body: '<p>Write to us: see <a href="BASE/page/contact">this page</a> for where we are.</p>',
};

const small = (
  name: string,
  client: string,
  colour: string,
  about: string,
  copies: DemoSite['copies'] = [],
  format: DemoSite['format'] = 'env',
): DemoSite => ({
  name,
  client,
  format,
  copies,
  content: {
    title: client,
    colour,
    pages: [
      {
        slug: 'home',
        title: 'Home',
        body: `<h1>${client}</h1><p>${about}</p><p><a href="BASE/page/contact">Contact us</a></p>`,
      },
      { slug: 'about', title: 'About us', body: `<p>${about} We have been here since 1987.</p>` },
      contact,
    ],
  },
});

const staging = [{ name: 'staging', kind: 'staging' }] as const;

export const DEMO_SITES: readonly DemoSite[] = [
  {
    name: 'saltmarsh',
    client: 'Saltmarsh Ferries',
    format: 'ini',
    copies: [
      { name: 'staging', kind: 'staging' },
      { name: 'dev', kind: 'dev' },
    ],
    content: {
      title: 'Saltmarsh Ferries',
      colour: '#1f5673',
      pages: [
        { slug: 'home', title: 'Timetable', body: '<h1>Across the sound, every day</h1>' },
        {
          slug: 'fares',
          title: 'Fares',
          body: '<p>Adults 8.40, children 4.20. Bicycles travel free outside July. <a href="BASE/page/contact">Ask us</a>.</p>',
        },
        {
          slug: 'winter',
          title: 'Winter service',
          body: '<p>From 1 November the last boat leaves Nesodd Pier at 19:40.</p>',
        },
        contact,
      ],
      notices: [{ title: 'Low water on Thursday', body: '<p>The 06:10 sails from the outer quay.</p>' }],
      sailings: [
        { route: 'Nesodd Pier – Saltmarsh', departs: '06:10', vessel: 'Terna' },
        { route: 'Saltmarsh – Nesodd Pier', departs: '07:05', vessel: 'Terna' },
        { route: 'Nesodd Pier – Holm', departs: '09:30', vessel: 'Grågås' },
        { route: 'Holm – Saltmarsh', departs: '12:15', vessel: 'Grågås' },
        { route: 'Saltmarsh – Holm', departs: '16:45', vessel: 'Terna' },
        { route: 'Nesodd Pier – Saltmarsh', departs: '19:40', vessel: 'Terna' },
      ],
    },
  },
  {
    name: 'threadmill',
    client: 'Threadmill & Daughters',
    format: 'env',
    copies: [
      { name: 'staging', kind: 'staging' },
      { name: 'dev', kind: 'dev' },
    ],
    content: {
      title: 'Threadmill & Daughters',
      colour: '#7a3b2e',
      pages: [
        {
          slug: 'home',
          title: 'Home',
          body: '<h1>Cloth that lasts</h1><p>Woven, dyed and sewn by the harbour. See <a href="BASE/page/how-we-dye">how we dye</a>.</p>',
        },
        {
          slug: 'how-we-dye',
          title: 'How we dye',
          body: '<p>Plant dyes only: madder, weld and woad. Our vats stand <a href="BASE/page/contact">in the yard</a>.</p>',
        },
        { slug: 'gift-cards', title: 'Gift cards', body: '<p>From 20 to 200, sent by post or mail.</p>' },
        { slug: 'opening-hours', title: 'Opening hours', body: '<p>Tuesday to Saturday, 10 to 17.</p>' },
        contact,
      ],
      products: [
        {
          slug: 'linen-apron',
          title: 'Linen apron, ochre',
          description: 'Heavy linen apron with two pockets. Wash at 40°.',
          price: '34.00',
          stock: 26,
        },
        {
          slug: 'wool-throw',
          title: 'Wool throw, heather',
          description: 'A throw for long evenings.',
          price: '89.00',
          stock: 12,
        },
        {
          slug: 'shepherds-blanket',
          title: 'Shepherd’s blanket',
          description: 'Double-woven, 140 × 200.',
          price: '145.00',
          stock: 9,
        },
        {
          slug: 'felt-slippers',
          title: 'Felt slippers, moss',
          description: 'Felted in one piece.',
          price: '42.00',
          stock: 31,
        },
        {
          slug: 'barley-cushion',
          title: 'Cushion, barley weave',
          description: 'Filled with wool.',
          price: '38.00',
          stock: 18,
        },
        {
          slug: 'tea-towel',
          title: 'Tea towel, herringbone',
          description: 'Half linen, in three colours.',
          price: '12.50',
          stock: 80,
        },
        { slug: 'market-bag', title: 'Market bag', description: 'Carries twelve kilos.', price: '24.00', stock: 40 },
        {
          slug: 'sea-scarf',
          title: 'Scarf, sea green',
          description: 'Fine merino, dyed with woad and weld.',
          price: '56.00',
          stock: 15,
        },
      ],
      customers: [
        {
          name: 'Ingrid Solheim',
          email: 'ingrid.solheim@post.example',
          phone: '+47 22 31 40 15',
          street: '14 Kelpmakers Row',
        },
        {
          name: 'Edmund Achterberg',
          email: 'e.achterberg@brief.example',
          phone: '+31 20 555 0142',
          street: '3 Weavers Quay',
        },
        { name: 'Nora Quist', email: 'nora.quist@post.example', phone: '+46 8 123 45 67', street: '88 Lantern Steps' },
      ],
    },
  },
  {
    name: 'pendulum',
    client: 'Halden Museum of Clocks',
    format: 'json',
    copies: [
      { name: 'front-a', kind: 'staging' },
      { name: 'front-b', kind: 'staging' },
    ],
    content: {
      title: 'Halden Museum of Clocks',
      colour: '#3d3a5c',
      pages: [
        {
          slug: 'home',
          title: 'Visit',
          body: '<h1>Four hundred years of keeping time</h1><p>Open Wednesday to Sunday. <a href="BASE/page/opening">Hours</a></p>',
        },
        { slug: 'opening', title: 'Opening hours', body: '<p>11 to 17; Thursdays until 21.</p>' },
        contact,
      ],
      exhibitions: [
        {
          title: 'The longcase',
          body: '<p>Twelve clocks taller than their makers.</p>',
          opens: '2026-09-01',
          closes: '2027-01-31',
        },
        {
          title: 'Time at sea',
          body: '<p>Chronometers that found the longitude.</p>',
          opens: '2026-11-15',
          closes: '2027-04-30',
        },
      ],
      archive: { files: 120, bytes: 40_000 },
    },
  },
  {
    name: 'northgate',
    client: 'Northgate Veterinary Practice',
    format: 'env',
    copies: [
      { name: 'schema', kind: 'dev' },
      { name: 'staging', kind: 'staging' },
    ],
    content: {
      title: 'Northgate Veterinary Practice',
      colour: '#2e6b4f',
      pages: [
        {
          slug: 'home',
          title: 'Practice',
          body: '<h1>For animals of every size</h1><p>Make an appointment below or <a href="BASE/page/contact">ring us</a>.</p>',
        },
        { slug: 'team', title: 'Our team', body: '<p>Three vets, two nurses and a cat.</p>' },
        contact,
      ],
      appointments: [
        {
          name: 'Halvor Rise',
          email: 'halvor.rise@post.example',
          phone: '+47 911 22 333',
          animal: 'Dog',
          complaint: 'Limps on the left foreleg since Sunday',
        },
        {
          name: 'Sanne Dekker',
          email: 'sanne.dekker@brief.example',
          phone: '+31 6 5550 1234',
          animal: 'Cat',
          complaint: 'Will not eat her own food',
        },
      ],
    },
  },
  small('bellfounder', 'Bell Founder Street Bakery', '#8a5a2b', 'Sourdough and rye from a wood-fired oven.', staging),
  small('brackenhill', 'Bracken Hill School', '#41633c', 'A small school on a green hill.', staging, 'json'),
  small('cobble', 'Cobble Lane Bicycles', '#9c3f2d', 'Repairs while you wait.'),
  small('driftline', 'Driftline Kayaks', '#266f7d', 'Guided tours at dawn and dusk.', staging),
  small('eelgrass', 'Eelgrass Sea Foods', '#2d5d52', 'Landed in the morning, sold by noon.', staging, 'ini'),
  small('fernleigh', 'Fernleigh Nursery', '#4f7338', 'Four hundred kinds of fern.', staging),
  small('gannet', 'Gannet Chandlery', '#34495e', 'Rope, paint and good advice.', [
    { name: 'staging', kind: 'staging' },
    { name: 'dev', kind: 'dev' },
  ]),
  small('hollowoak', 'Hollow Oak Joinery', '#6b4a2b', 'Tables that outlive their owners.', staging),
  small('inkwell', 'Inkwell Print Studio', '#2b2b33', 'Letterpress and risograph.'),
  small('kelder', 'Kelder Wines', '#6d2b45', 'Small growers, large cellar.', staging, 'json'),
  small('larkfield', 'Larkfield Farm', '#7d7a2c', 'Eggs, honey and a farm shop.'),
  small('millrace', 'Millrace Bakery', '#a0622d', 'Cakes to order.', staging),
  small('netloft', 'Net Loft Galleries', '#3b5f7f', 'Painters of the coast.', staging),
  small('pilotsteps', 'Pilot Steps Rowing Club', '#1e4a72', 'Rowing for everybody since 1911.', staging),
  small('quaychoir', 'The Quay Choir', '#5a3d6b', 'Forty voices, one harbour.'),
  small('ropewalk', 'Ropewalk Studios', '#7f4a3a', 'Rooms for potters and painters.', [
    { name: 'dev', kind: 'dev' },
    { name: 'staging', kind: 'staging' },
  ]),
  small('sandglass', 'Sandglass Physiotherapy', '#8f6f3e', 'Back on your feet.', staging),
  small('tollhouse', 'Tollhouse Inn', '#5b2f2f', 'Eight rooms and a fire.', staging),
  small('wherry', 'Wherry Boat Hire', '#2f6a8a', 'Boats by the hour and by the week.', [
    { name: 'staging', kind: 'staging' },
  ]),
  small('windrow', 'Windrow Farm Shop', '#6f7f2a', 'From the field behind the shop.'),
];

export const DEMO_PERSON = { name: 'Maren Brask', mail: 'maren.brask@copperlane.example' };
