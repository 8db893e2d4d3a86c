import { databaseSuite } from './conformance/databases.js';
import { memoryKind } from './conformance/memory.js';
import { postgresKind } from './conformance/postgres.js';
import { siteSuite } from './conformance/site.js';

for (const [title, kind] of [
  ['PostgreSQL', postgresKind],
  ['a kind that exists in tests only', memoryKind],
] as const) {
  databaseSuite(title, kind);
  siteSuite(title, kind);
}
