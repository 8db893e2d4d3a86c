import type { ByteString } from '../address/place.js';
import { toBytes, toText } from '../rows/condition.js';
import { readKeyPath, scalarsAt } from '../values/keys-inside.js';
import { lengthIn } from '../values/serialised.js';
import { readValueTree, type ScalarNode, type ValueNode, type ValueTree } from '../values/value-tree.js';
import { type PersonalValues, personalValues } from './personal-values.js';

/** A mask for what stands below a path inside a value. */
export interface InnerMask {
  readonly path: string;
  readonly mask: (value: ByteString) => ByteString | null;
}

/**
 * Masks what stands at some paths inside a JSON document or a serialised value, and everything below them; the rest stays
 * as it is, byte for byte. Truth values, floating numbers of serialised values and null stay too.
 *
 * @returns undefined when the value is neither: then nobody knows where in it people stand
 * @throws when a path is none
 */
export function maskInside(value: ByteString, masks: readonly InnerMask[]): ByteString | undefined {
  const tree = readValueTree(value);
  if (!tree) return undefined;
  const found = new Map<ScalarNode, InnerMask>();
  for (const mask of masks) {
    const steps = readKeyPath(mask.path);
    if (!steps) throw new Error(`"${mask.path}" is no path.`);
    for (const node of scalarsAt(tree.root, steps, true)) if (!found.has(node)) found.set(node, mask);
  }
  const out: ByteString[] = [];
  let at = 0;
  for (const [node, { mask }] of [...found].sort(([a], [b]) => a.start - b.start)) {
    const text = textOf(tree, node);
    if (text === undefined || text === '') continue;
    out.push(value.slice(at, node.start), written(tree, node, mask(text)));
    at = node.end;
  }
  return out.join('') + value.slice(at);
}

/** What a string or number says; undefined for other scalars. */
function textOf({ format, text }: ValueTree, node: ScalarNode): ByteString | undefined {
  if (node.text !== undefined || !node.isString || format !== 'json') return node.text;
  try {
    return toBytes(JSON.parse(toText(text.slice(node.start, node.end))) as string);
  } catch {
    // Escapes that JSON does not know: masked as they are written.
    return text.slice(node.start + 1, node.end - 1);
  }
}

const JSON_INTEGER = /^-?(0|[1-9]\d*)$/;

/** A number stays one where its mask left one. */
function written({ format, unit }: ValueTree, node: ScalarNode, masked: ByteString | null): ByteString {
  const isNumber = masked !== null && !node.isString && JSON_INTEGER.test(masked);
  if (format === 'json') return isNumber ? masked : masked === null ? 'null' : toBytes(JSON.stringify(toText(masked)));
  return masked === null ? 'N;' : isNumber ? `i:${masked};` : `s:${lengthIn(unit, masked)}:"${masked}";`;
}

/** A place inside the values of a column that looks like something of people. */
export interface PersonalPlace {
  readonly path: string;
  readonly looks: PersonalValues;
}

/**
 * Looks into samples of a column's values for places that hold something of people, as {@link personalValues} does for a
 * whole column. Members of lists, and of arrays by number, are looked at together.
 *
 * @param samples values as text; those that are neither JSON nor serialised are passed over
 */
export function personalPlaces(samples: readonly string[], isOfVisitors: boolean): PersonalPlace[] {
  const values = new Map<string, string[]>();
  for (const sample of samples) {
    if (!/^\s*[[{]|^[aO]:\d/.test(sample)) continue;
    const tree = readValueTree(toBytes(sample));
    if (!tree) continue;
    const visit = (node: ValueNode, path: string): void => {
      if (node.is === 'scalar') {
        const text = node.isString ? textOf(tree, node) : undefined;
        if (text === undefined) return;
        const known = values.get(path);
        if (known) known.push(toText(text));
        else values.set(path, [toText(text)]);
        return;
      }
      for (const { name, node: inner } of node.entries) visit(inner, `${path}${segment(node, toText(name))}`);
    };
    visit(tree.root, '$');
  }
  return [...values].flatMap(([path, texts]) => {
    const looks = personalValues(texts, isOfVisitors);
    return looks === undefined ? [] : [{ path, looks }];
  });
}

function segment(node: ValueNode, name: string): string {
  if (node.is === 'list' || /^\d+$/.test(name)) return '[*]';
  if (/^[A-Za-z_][\w-]*$/.test(name)) return `.${name}`;
  return name.includes("'") ? `["${name}"]` : `['${name}']`;
}
