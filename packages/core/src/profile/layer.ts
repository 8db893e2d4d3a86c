import { isMap, isScalar, isSeq, LineCounter, type Node, visit } from 'yaml';
import type { z } from 'zod';
import { plainIssue } from '../plain-issue.js';
import { contentOf, parseBounded, UnboundedDocumentError } from './bounded-yaml.js';
import { type LayerDocument, LayerSchema, ProfileSchema } from './schema.js';

/** One thing that is wrong with a profile document. */
export interface ProfileMistake {
  /** 1-based line in the document. */
  readonly line: number;
  /** Where in the document, such as `settings[2].in.format`. */
  readonly path: string;
  readonly message: string;
}

/** One document of which a profile is composed, read on its own. */
export interface Layer {
  readonly document: LayerDocument;
  /** The line (from 1) on which something stands, or what it stands in. */
  lineOf(path: readonly PropertyKey[]): number;
}

/** One document of a profile, or every mistake in it. */
export type LayerCheck =
  | { readonly ok: true; readonly layer: Layer }
  | { readonly ok: false; readonly mistakes: readonly ProfileMistake[] };

/** Reads one document from YAML and names every mistake that it has on its own, with its line. */
export function readLayer(text: string): LayerCheck {
  try {
    return readBounded(text);
  } catch (error) {
    if (!(error instanceof UnboundedDocumentError)) throw error;
    return { ok: false, mistakes: [{ line: 1, path: '', message: error.message }] };
  }
}

/** More mistakes are not told at once. */
const MOST_MISTAKES = 100;

function readBounded(text: string): LayerCheck {
  const lines = new LineCounter();
  const document = parseBounded(text, { lineCounter: lines });
  const found = document.errors.length > 0 ? document.errors : keysThatStandTwice(document.contents);
  if (found.length > 0) {
    const mistakes = found.slice(0, MOST_MISTAKES).map((error) => ({
      line: lines.linePos(error.pos[0]).line,
      path: '',
      message: error.message.split('\n')[0] ?? '',
    }));
    return { ok: false, mistakes };
  }
  const layer = { lineOf: (path: readonly PropertyKey[]): number => lineOf(document.contents, path, lines) };
  const content = contentOf(document);
  const isWhole = !isRecord(content) || (content.tessarion !== 'part/1' && content.base === undefined);
  const parsed = (isWhole ? LayerSchema.extend({ areas: ProfileSchema.shape.areas }) : LayerSchema).safeParse(content, {
    error: plainIssue,
  });
  if (!parsed.success) return { ok: false, mistakes: mistakesOf(parsed.error.issues, layer.lineOf) };
  if (parsed.data.tessarion === 'part/1' && (parsed.data.base !== undefined || parsed.data.parts !== undefined))
    return {
      ok: false,
      mistakes: [
        mistakeAt(layer, [parsed.data.base === undefined ? 'parts' : 'base'], 'a part stands on nothing else'),
      ],
    };
  return { ok: true, layer: { ...layer, document: parsed.data } };
}

function keysThatStandTwice(root: Node | null): { pos: [number, number]; message: string }[] {
  const found: { pos: [number, number]; message: string }[] = [];
  visit(root, {
    Map(_key, { items }) {
      const seen = new Set<unknown>();
      for (const { key } of items) {
        if (!isScalar(key)) continue;
        if (seen.has(key.value)) {
          const [start = 0, end = 0] = key.range ?? [];
          found.push({ pos: [start, end], message: 'Map keys must be unique' });
        }
        seen.add(key.value);
      }
    },
  });
  return found;
}

const isRecord = (value: unknown): value is Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value);

const mistakeAt = (layer: Pick<Layer, 'lineOf'>, path: readonly PropertyKey[], message: string): ProfileMistake => ({
  line: layer.lineOf(path),
  path: writePath(path),
  message,
});

/** What a schema found, in the words of people who write such documents. */
export function mistakesOf(
  issues: readonly z.core.$ZodIssue[],
  lineOf: (path: readonly PropertyKey[]) => number,
): ProfileMistake[] {
  const mistakes = issues.slice(0, MOST_MISTAKES).flatMap((issue): ProfileMistake[] => {
    if (issue.code === 'unrecognized_keys')
      return issue.keys
        .slice(0, MOST_MISTAKES)
        .map((key) => mistakeAt({ lineOf }, [...issue.path, key], `"${key}" is not a key that is known here`));
    if (issue.code === 'invalid_union') {
      const closest = [...issue.errors].sort((a, b) => a.length - b.length)[0] ?? [];
      return closest.map((inner) => mistakeAt({ lineOf }, [...issue.path, ...inner.path], inner.message));
    }
    return [mistakeAt({ lineOf }, issue.path, issue.message)];
  });
  return sortByLine(mistakes);
}

/** Mistakes as they stand in the document. */
export const sortByLine = (mistakes: readonly ProfileMistake[]): ProfileMistake[] =>
  [...mistakes].sort((a, b) => a.line - b.line);

/** A path as people read it: `settings[2].in.format`. */
export function writePath(path: readonly PropertyKey[]): string {
  return path
    .map((part) => (typeof part === 'number' ? `[${part}]` : `.${String(part)}`))
    .join('')
    .replace(/^\./, '');
}

function lineOf(root: Node | null, path: readonly PropertyKey[], lines: LineCounter): number {
  let node: Node | null | undefined = root;
  let offset = root?.range?.[0] ?? 0;
  for (const part of path) {
    if (isMap(node)) {
      const pair = node.items.find(
        (candidate) => isScalar(candidate.key) && String(candidate.key.value) === String(part),
      );
      if (!pair) break;
      offset = (pair.key as Node).range?.[0] ?? offset;
      node = pair.value as Node | null;
    } else if (isSeq(node)) {
      node = node.items[Number(part)] as Node | undefined;
      offset = node?.range?.[0] ?? offset;
    } else {
      break;
    }
  }
  return lines.linePos(offset).line;
}
