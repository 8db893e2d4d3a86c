import { parseDocument } from 'yaml';
import type { DataClass } from './schema.js';

/**
 * Gives a table a class in a profile's document; all else, comments too, stays as it was written.
 *
 * @param text a document that was read without a mistake
 */
export function classify(text: string, database: string, table: string, dataClass: DataClass): string {
  const document = parseDocument(text);
  const path = ['databases', database, 'tables', table];
  if (document.hasIn(path)) document.setIn([...path, 'class'], dataClass);
  else document.setIn(path, document.createNode({ class: dataClass }, { flow: true }));
  return document.toString({ lineWidth: 0 });
}
