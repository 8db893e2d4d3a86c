/** Words of a table's or column's name: `orderLine_ids` gives `order`, `line`, `id`. */
export function wordsOf(name: string): string[] {
  return name
    .replace(/([a-z0-9])([A-Z])/g, '$1_$2')
    .toLowerCase()
    .split(/[^a-z0-9]+/)
    .filter((word) => word !== '')
    .map(singular);
}

/** The singular by the common rules of English plurals. */
export function singular(word: string): string {
  if (/(ss|us|is|news|series)$/.test(word)) return word;
  if (/ies$/.test(word) && word.length > 4) return `${word.slice(0, -3)}y`;
  if (/(ch|sh|x|z|ss)es$/.test(word)) return word.slice(0, -2);
  return /s$/.test(word) && word.length > 2 ? word.slice(0, -1) : word;
}

/** The plural of an English noun in lower case, by the common rules. */
export const plural = (word: string): string =>
  /[^aeiou]y$/.test(word) ? `${word.slice(0, -1)}ies` : /(ch|sh|x|z|s)$/.test(word) ? `${word}es` : `${word}s`;

/** Whether a column's or member's name speaks of a table: `product_id`, `productId`, `id_product` or `product`. */
export function speaksOf(name: string, table: string): boolean {
  const words = wordsOf(name);
  const isReference = words.includes('id') || words.includes('ref');
  const own = words.filter((word) => word !== 'id' && word !== 'ref');
  const target = wordsOf(table);
  if (own.length === 0) return false;
  const said = own.join(' ');
  // Installations often put a prefix before all of their tables' names, and tables before those of their columns.
  const names = [target.join(' '), ...(target.length > 1 ? [target.slice(1).join(' ')] : [])];
  return names.some(
    (name) => said === name || (isReference && (name.endsWith(` ${said}`) || said.endsWith(` ${name}`))),
  );
}
