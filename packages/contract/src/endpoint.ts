import type { z } from 'zod';

/** What somebody must be allowed to do to call an endpoint; `open` answers without signing in. */
export type Permission =
  | 'open'
  | 'signed-in'
  | 'fleet.read'
  | 'copy.manage'
  | 'live.deliver'
  | 'site.manage'
  | 'server.manage'
  | 'snapshot.manage'
  | 'secret.read';

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
  readonly permission: Permission;
  readonly summary: string;
  readonly params: Params;
  readonly query: Query;
  readonly body: Body;
  readonly response: Response;
  /** Status of success; 200 unless said otherwise. */
  readonly status?: 200 | 201 | 202 | 204;
}

export function endpoint<P extends z.ZodType, Q extends z.ZodType, B extends z.ZodType, R extends z.ZodType>(
  definition: Endpoint<P, Q, B, R>,
): Endpoint<P, Q, B, R> {
  return definition;
}
