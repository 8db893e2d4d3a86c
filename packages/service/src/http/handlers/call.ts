import type { BodyOf, EndpointName, ParamsOf, Person, QueryOf, ResponseOf } from '@tessarion/contract';
import type { FastifyReply } from 'fastify';
import type { Access } from '../../auth.js';
import type { Installation } from '../../work/context.js';

/** One call of an endpoint, its input parsed by the contract. */
export interface Call<Params = unknown, Query = unknown, Body = unknown> {
  readonly params: Params;
  readonly query: Query;
  readonly body: Body;
  /** Who calls; absent only on open endpoints, which must not use it. */
  readonly person: Person;
  readonly installation: Installation;
  readonly access: Access;
  readonly session: string | undefined;
  readonly reply: FastifyReply;
}

export type Handler<N extends EndpointName> = (
  call: Call<ParamsOf<N>, QueryOf<N>, BodyOf<N>>,
) => Promise<ResponseOf<N>>;
export type Handlers<N extends EndpointName> = { readonly [K in N]: Handler<K> };
