import { iso } from '../../records/transfers.js';
import type { Handlers } from './call.js';

interface TokenRow {
  readonly id: string;
  readonly name: string;
  readonly created_at: Date;
  readonly expires_at: Date | null;
  readonly last_used_at: Date | null;
}

const toToken = (row: TokenRow) => ({
  id: row.id,
  name: row.name,
  createdAt: row.created_at.toISOString(),
  expiresAt: iso(row.expires_at),
  lastUsedAt: iso(row.last_used_at),
});

export const peopleHandlers: Handlers<
  'signIn' | 'signOut' | 'me' | 'firstAdministrator' | 'tokenList' | 'tokenCreate' | 'tokenRemove'
> = {
  async signIn({ body, access, reply }) {
    const { person, session, expires } = await access.signIn(body.mail, body.password);
    reply.setCookie('tessarion_session', session, { path: '/', httpOnly: true, sameSite: 'strict', expires });
    return person;
  },
  async signOut({ session, access, reply }) {
    if (session !== undefined) await access.signOut(session);
    reply.clearCookie('tessarion_session', { path: '/' });
    return undefined;
  },
  async me({ person }) {
    return person;
  },
  firstAdministrator: ({ body, access }) => access.makeFirst(body.key, body.name, body.mail, body.password),
  async tokenList({ person, installation }) {
    const rows = await installation.records('token').where({ person_id: person.id }).orderBy('created_at');
    return (rows as TokenRow[]).map(toToken);
  },
  async tokenCreate({ person, body, access, installation }) {
    const token = await access.makeToken(installation.records, person, body.name, body.days);
    return { ...toToken({ ...token, name: body.name, last_used_at: null }), value: token.value };
  },
  async tokenRemove({ person, params, installation }) {
    await installation.records('token').where({ id: params.id, person_id: person.id }).delete();
    return undefined;
  },
};
