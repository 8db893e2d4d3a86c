import { readFileSync } from 'node:fs';
import { join } from 'node:path';

export const html = (text: unknown): string =>
  String(text ?? '').replace(/[&<>"]/g, (one) => `&#${one.charCodeAt(0)};`);

/** Fills `{{ name }}` (escaped) and `{{{ name }}}` (as it is) in a template of the site's own folder. */
export function render(root: string, template: string, values: Record<string, string>): string {
  const text = readFileSync(join(root, 'templates', template), 'utf8');
  return text
    .replace(/\{\{\{\s*(\w+)\s*\}\}\}/g, (_all, name: string) => values[name] ?? '')
    .replace(/\{\{\s*(\w+)\s*\}\}/g, (_all, name: string) => html(values[name]));
}
