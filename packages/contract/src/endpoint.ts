import type { Permission } from '@tessarion/core';
import type { z } from 'zod';

/**
 * What somebody must be allowed to do to call an endpoint; `open` answers without signing in, `guest` only who came by a
 * guest's link, about what that link shows.
 */
export type EndpointPermission = 'open' | 'guest' | 'signed-in' | Permission;

/**
 * What an endpoint acts upon; the permission is asked for that. `installation`: all of it. `own`: what belongs to who
 * calls. `listed`: many things, of which only those are answered that may be read. Otherwise where in the input the
 * thing is named, such as `params.id`; of several environments the last one is acted upon, and all must be readable,
 * as must be what something is made `from`. What comes from another site needs the permission there too.
 */
export type About =
  | 'installation'
  | 'own'
  | 'listed'
  | { readonly site: string; readonly from?: string; readonly snapshot?: string }
  | { readonly environments: readonly string[]; readonly snapshot?: string }
  | { readonly transfer: string }
  | { readonly forecast: string }
  | { readonly request: string }
  | { readonly guest: string }
  | { readonly snapshot: string; readonly onto?: string };

/** One endpoint of the HTTP interface, as data: service, client and documents are made from it. */
export interface Endpoint<
  Params extends z.ZodType = z.ZodType,
  Query extends z.ZodType = z.ZodType,
  Body extends z.ZodType = z.ZodType,
  Response extends z.ZodType = z.ZodType,
> {
  readonly method: 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE';
  /** Below `/api/v1`, with `:name` for parameters. */
  readonly path: string;
  readonly permission: EndpointPermission;
  /** Needed instead where what is acted upon is live. */
  readonly onLive?: Permission;
  readonly about: About;
  /** An act leaves an entry in the journal. All that is no GET is one, unless it only computes. */
  readonly isAct?: false;
  /** Writes over what somebody may have changed meanwhile: needs `If-Match` with the entity tag of what was edited. */
  readonly isEdit?: true;
  /** Answers with text, piece by piece; its response is an iterable of them. */
  readonly isText?: true;
  /** May be kept by who asked, and is sent again only once it is another one (RFC 9111, 4.3; RFC 9110, 13.1.2). */
  readonly isKept?: true;
  /** As how many requests a call counts against those that somebody may make in a minute; one, unless it is said. */
  readonly costs?: number;
  readonly summary: string;
  readonly params: Params;
  readonly query: Query;
  readonly body: Body;
  readonly response: Response;
  /** Status of success; 200 unless said otherwise. */
  readonly status?: 200 | 201 | 202 | 204;
}

/** An endpoint as it is defined; its types are read off its schemas. */
export function endpoint<P extends z.ZodType, Q extends z.ZodType, B extends z.ZodType, R extends z.ZodType>(
  definition: Endpoint<P, Q, B, R>,
): Endpoint<P, Q, B, R> {
  return definition;
}

/** An endpoint that writes over something; the client asks for the entity tag of what was edited. */
export function edit<P extends z.ZodType, Q extends z.ZodType, B extends z.ZodType, R extends z.ZodType>(
  definition: Omit<Endpoint<P, Q, B, R>, 'isEdit'>,
): Endpoint<P, Q, B, R> & { readonly isEdit: true } {
  return { ...definition, isEdit: true };
}

/** Whether an endpoint does something, or only reads and computes. */
export const isAct = ({ method, isAct: does }: Pick<Endpoint, 'method' | 'isAct'>): boolean =>
  method !== 'GET' && does !== false;
