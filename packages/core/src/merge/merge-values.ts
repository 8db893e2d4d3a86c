import type { ByteString } from '../address/place.js';
import { plain } from '../address/rewriter.js';
import { type MapNode, readValueTree, type ValueNode, type ValueTree, writeMap } from '../values/value-tree.js';

/** A node with the text that it stands in. */
interface Part {
  readonly node: ValueNode;
  readonly text: ByteString;
}

const written = ({ node, text }: Part): ByteString => text.slice(node.start, node.end);

/**
 * Merges JSON documents or serialised values member by member: what one side changed, added or removed is taken over.
 * Lists count as one value.
 *
 * @returns undefined where both changed the same differently, or where one of the three cannot be read or has values that
 *   stand for others by their number
 */
export function mergeValues(base: ByteString, source: ByteString, destination: ByteString): ByteString | undefined {
  const trees = [base, source, destination].map(readValueTree) as [ValueTree?, ValueTree?, ValueTree?];
  const [b, s, d] = trees;
  if (!b || !s || !d || b.format !== s.format || s.format !== d.format) return undefined;
  if (b.isNumbered || s.isNumbered || d.isNumbered) return undefined;
  // Lengths mean the same in all of them; of plain ASCII they do in any case.
  if (new Set([b, s, d].flatMap(({ unit, text }) => (/[\x80-\xff]/.test(text) ? [unit] : []))).size > 1)
    return undefined;
  const partOf = ({ root, text }: ValueTree): Part => ({ node: root, text });
  return mergeParts(b.format, partOf(b), partOf(s), partOf(d))?.text;
}

/** The outcome for one member; `text` undefined where it goes. */
type Merged = { readonly text: ByteString | undefined };

function mergeParts(
  format: ValueTree['format'],
  base: Part | undefined,
  source: Part | undefined,
  destination: Part | undefined,
): Merged | undefined {
  if (isSame(source, destination) || isSame(source, base)) return { text: destination && written(destination) };
  if (isSame(destination, base)) return { text: source && written(source) };
  if (source?.node.is !== 'map' || destination?.node.is !== 'map') return undefined;
  if (base?.node.is !== 'map' || source.node.head !== destination.node.head) return undefined;
  const sides = { base: membersOf(base), source: membersOf(source), destination: membersOf(destination) };
  const entries: { key: ByteString; value: ByteString }[] = [];
  for (const name of new Set([...sides.destination.keys(), ...sides.source.keys(), ...sides.base.keys()])) {
    const at = { base: sides.base.get(name), source: sides.source.get(name), destination: sides.destination.get(name) };
    const merged = mergeParts(format, at.base, at.source, at.destination);
    if (!merged) return undefined;
    const key = (at.destination ?? at.source)?.key;
    if (merged.text !== undefined && key !== undefined) entries.push({ key, value: merged.text });
  }
  return { text: writeMap(format, destination.node.head, entries) };
}

function membersOf({ node, text }: Part): Map<ByteString, Part & { readonly key: ByteString }> {
  return new Map((node as MapNode).entries.map((entry) => [entry.name, { node: entry.node, text, key: entry.key }]));
}

const isSame = (a: Part | undefined, b: Part | undefined): boolean =>
  a === undefined || b === undefined ? a === b : plain(written(a)) === plain(written(b));
