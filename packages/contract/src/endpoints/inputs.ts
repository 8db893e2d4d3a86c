import { z } from 'zod';
import * as s from '../shapes.js';

/** No body, or no answer. */
export const none = z.undefined();
/** What is sent is exact: a misspelt field would otherwise be a wish that nobody hears. */
export const nothing = z.strictObject({});
/** A path that names a site. */
export const onSite = z.object({ site: s.Name });
/** A path that names an environment of a site. */
export const onEnvironment = z.object({ site: s.Name, environment: s.Name });
/** A path that ends with an id. */
export const byId = z.object({ id: s.Id });

/** Which page of a list, and how long it is. */
export const Page = z.strictObject({
  cursor: z.string().max(200).optional(),
  limit: z.coerce.number().int().min(1).max(500).optional(),
});
/** How a list is written out: JSON Lines, one of its things a line, or CSV (RFC 4180) with a head. */
export const ExportForm = z.enum(['jsonl', 'csv']);
export type ExportForm = z.infer<typeof ExportForm>;
/** Text that comes piece by piece. */
export const pieces = z.custom<AsyncIterable<string>>();
/** A page of a list; `next` is the cursor of the one after it, null at the end. */
export const paged = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item), next: z.string().nullable() });
