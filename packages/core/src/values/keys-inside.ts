import type { ByteString } from '../address/place.js';
import { toBytes } from '../rows/condition.js';
import { readValueTree, type ScalarNode, type ValueNode, writeScalar } from './value-tree.js';

/** Finds keys inside a value, such as a JSON document. */
export interface KeysInside {
  /** The value with every key in it translated; the same string when nothing changed. */
  replace(value: ByteString, translate: (key: ByteString) => ByteString): ByteString;
  /** Whether the value can be read; in what cannot no keys are found. An empty one has none. */
  isReadable(value: ByteString): boolean;
}

/** One step of a path: to a member by its name, to all of them, or to any below. */
export type Step = { readonly name: ByteString | undefined; readonly isDeep: boolean };

const SEGMENT = /(\.\.|\.)(?:([A-Za-z_][\w-]*)|(\*))|\[(?:'([^']*)'|"([^"]*)"|(\d+)|(\*))\]/y;

/**
 * Reads a path: JSONPath (RFC 9535) with names, indexes, `*` and `..`, such as `$.rows[*].page`. In serialised values
 * names and indexes are the array's keys.
 *
 * @returns undefined when it is none
 */
export function readKeyPath(path: string): readonly Step[] | undefined {
  if (!path.startsWith('$')) return undefined;
  const steps: Step[] = [];
  for (let at = 1; at < path.length; at = SEGMENT.lastIndex) {
    SEGMENT.lastIndex = at;
    const found = SEGMENT.exec(path);
    if (!found) return undefined;
    const [, dots, name, , single, double, index] = found;
    const own = name ?? single ?? double ?? index;
    steps.push({ name: own === undefined ? undefined : toBytes(own), isDeep: dots === '..' });
  }
  return steps;
}

/** Finds keys inside JSON documents and serialised values, wherever a path leads. @throws when it is no path */
export function keysInside(path: string): KeysInside {
  const steps = readKeyPath(path);
  if (!steps) throw new Error(`"${path}" is no path.`);
  return {
    isReadable: (value) => value.trim() === '' || readValueTree(value) !== undefined,
    replace(value, translate) {
      const tree = readValueTree(value);
      if (!tree) return value;
      let out: ByteString = '';
      let at = 0;
      for (const node of scalarsAt(tree.root, steps)) {
        const key = node.text;
        if (key === undefined || key === '') continue;
        const next = translate(key);
        if (next === key) continue;
        out += value.slice(at, node.start) + writeScalar(tree, node, next);
        at = node.end;
      }
      return at === 0 ? value : out + value.slice(at);
    },
  };
}

/**
 * Scalars to which a path leads, in the order in which they stand, each once.
 *
 * @param isBelowToo whether those count that stand anywhere below what it leads to
 */
export function scalarsAt(root: ValueNode, steps: readonly Step[], isBelowToo = false): ScalarNode[] {
  const found = new Set<ScalarNode>();
  const visit = (node: ValueNode, reached: ReadonlySet<number>): void => {
    const isThere = reached.has(steps.length);
    if (node.is === 'scalar') {
      if (isThere) found.add(node);
      return;
    }
    for (const { name, node: inner } of node.entries) {
      const next = new Set<number>(isThere && isBelowToo ? [steps.length] : []);
      for (const at of reached) {
        const step = steps[at];
        if (!step) continue;
        if (step.isDeep) next.add(at);
        if (step.name === undefined || step.name === name) next.add(at + 1);
      }
      if (next.size > 0) visit(inner, next);
    }
  };
  visit(root, new Set([0]));
  return [...found];
}
