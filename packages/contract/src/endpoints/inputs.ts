import { z } from 'zod';
import * as s from '../shapes.js';

export const none = z.undefined();
/** What is sent is exact: a misspelt field would otherwise be a wish that nobody hears. */
export const nothing = z.strictObject({});
export const onSite = z.object({ site: s.Name });
export const onEnvironment = z.object({ site: s.Name, environment: s.Name });
export const byId = z.object({ id: s.Id });

export const Page = z.strictObject({
  cursor: z.string().max(200).optional(),
  limit: z.coerce.number().int().min(1).max(500).optional(),
});
/** How a list is written out: JSON Lines, one of its things a line, or CSV (RFC 4180) with a head. */
export const ExportForm = z.enum(['jsonl', 'csv']);
export type ExportForm = z.infer<typeof ExportForm>;
export const pieces = z.custom<AsyncIterable<string>>();
export const paged = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item), next: z.string().nullable() });
