import { Client, keepingCookie, sendByFetch } from '@tessarion/client';

/** A client that keeps its cookie, as a browser does. */
export const browser = (url: string): Client => new Client({ url, send: keepingCookie(sendByFetch) });

export async function signIn(url: string, mail: string, password: string): Promise<Client> {
  const client = browser(url);
  await client.call('signIn', { body: { mail, password } });
  return client;
}

interface Colleague {
  readonly name: string;
  readonly role: string;
  readonly scope: string;
}

/** Who works at the studio, beside its administrator. */
export const COLLEAGUES = {
  ida: { name: 'Ida Moe', role: 'editor', scope: 'everything' },
  torgeir: { name: 'Torgeir Vang', role: 'developer', scope: 'everything' },
  lise: { name: 'Lise Aune', role: 'reviewer', scope: 'everything' },
  odd: { name: 'Odd Rye', role: 'operations', scope: 'everything' },
  sanna: { name: 'Sanna Hult', role: 'editor', scope: 'client:Saltmarsh Ferries' },
} as const satisfies Record<string, Colleague>;

export type Crew = Readonly<Record<keyof typeof COLLEAGUES, Client>>;

export const mailOf = ({ name }: Colleague): string => `${name.toLowerCase().replace(' ', '.')}@copperlane.example`;

/** Invites the colleagues, who come with the demo's password; one more is invited and has not come yet. */
export async function bringCrew(client: Client, url: string, password: string): Promise<Crew> {
  const crew: Partial<Record<keyof typeof COLLEAGUES, Client>> = {};
  await Promise.all(
    (Object.entries(COLLEAGUES) as [keyof typeof COLLEAGUES, Colleague][]).map(async ([who, one]) => {
      const mail = mailOf(one);
      const { key } = await client.call('personInvite', { body: { ...one, mail } });
      await new Client({ url }).call('invitationAccept', { body: { key, password } });
      crew[who] = await signIn(url, mail, password);
    }),
  );
  await client.call('personInvite', {
    body: { name: 'Bror Ness', mail: 'bror.ness@copperlane.example', role: 'observer', scope: 'pendulum' },
  });
  const id = async (who: keyof typeof COLLEAGUES): Promise<string> => (await (crew[who] as Client).call('me')).id;
  await client.call('teamSave', {
    params: { name: 'shop' },
    body: { title: 'The shop', members: [await id('ida'), await id('lise')] },
    etag: null,
  });
  await client.call('teamSave', {
    params: { name: 'night-shift' },
    body: { title: 'Night shift', members: [await id('odd')] },
    etag: null,
  });
  await client.call('roleSave', {
    params: { name: 'auditor' },
    body: { title: 'Auditor', permissions: ['site.read', 'journal.read'] },
    etag: null,
  });
  return crew as Crew;
}
