import type { BodyOf, EndpointName, ParamsOf, Person, QueryOf, ResponseOf } from '@tessarion/contract';
import type { Actor, Permission, Thing } from '@tessarion/core';
import type { FastifyReply } from 'fastify';
import type { OnRecords } from '../../ground/open.js';
import type { GuestRecord } from '../../guests/guests.js';
import type { TokenInUse } from '../../people/actors.js';
import type { Provider } from '../../people/provider.js';
import type { Sight } from '../../people/sight.js';
import type { Access } from '../../people/sign-in.js';
import type { Installation } from '../../transfers/installation.js';

/** One call of an endpoint, its input parsed by the contract, and allowed by it. */
export interface Call<Params = unknown, Query = unknown, Body = unknown> {
  readonly params: Params;
  readonly query: Query;
  readonly body: Body;
  /** Who calls, what they may do, and what they may read; absent only on open endpoints, which must not use them. */
  readonly person: Person;
  readonly actor: Actor;
  readonly sight: Sight;
  /** Who came by a link; there on guests' endpoints only. */
  readonly guest: GuestRecord;
  readonly installation: Installation;
  readonly access: Access;
  /** By which one may sign in, where one is set up. */
  readonly provider: Provider | undefined;
  readonly session: string | undefined;
  readonly token: TokenInUse | undefined;
  /** Network address of who calls. */
  readonly address: string;
  readonly reply: FastifyReply;
  /** For what an endpoint's own permission does not say. @throws {ProblemError} `not-allowed` */
  mustHold(permission: Permission, thing: Thing): void;
  /**
   * Sees that an edit was made from what is there now; every endpoint that is an edit does it once, in its transaction.
   *
   * @param etag of what is there; undefined where nothing is there yet
   * @throws {ProblemError} `etag-missing` or `changed-meanwhile`
   */
  mustMatch(etag: string | undefined): void;
  /**
   * Writes the act into the journal, in its own transaction. Every endpoint that is an act does it once.
   *
   * @param thing what was acted upon: a path or an id
   * @param by who did it, where nobody was signed in yet: a person, or a guest who comes in
   */
  note(
    on: OnRecords,
    thing: string,
    details: Readonly<Record<string, unknown>>,
    by?: Person | GuestRecord,
  ): Promise<void>;
}

/** Answers one call of the interface. */
export type Handler<N extends EndpointName> = (
  call: Call<ParamsOf<N>, QueryOf<N>, BodyOf<N>>,
) => Promise<ResponseOf<N>>;
/** Answers to some calls, by name. */
export type Handlers<N extends EndpointName> = { readonly [K in N]: Handler<K> };
