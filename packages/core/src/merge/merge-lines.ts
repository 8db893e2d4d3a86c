import { diff3Merge } from 'node-diff3';
import type { ByteString } from '../address/place.js';

/** Longer texts are not merged by lines; a person settles them. */
export const LONGEST_MERGED_TEXT = 1_000_000;

/** Whether a content is text that people edit in lines: no zero bytes, and not too long. */
export const isLineText = (content: ByteString): boolean =>
  content.length <= LONGEST_MERGED_TEXT && !content.includes('\0');

/**
 * Brings together what both sides changed in a text, where they changed different lines.
 *
 * @returns undefined when both changed the same lines, or lines that touch
 */
export function mergeLines(base: ByteString, source: ByteString, destination: ByteString): ByteString | undefined {
  const regions = diff3Merge(lines(source), lines(base), lines(destination), { excludeFalseConflicts: true });
  const merged: string[] = [];
  for (const region of regions) {
    if (!region.ok) return undefined;
    merged.push(...region.ok);
  }
  return merged.join('');
}

/** Lines with their ends, so that a missing last newline is a difference like any other. */
const lines = (text: ByteString): string[] => text.match(/[^\n]*\n|[^\n]+$/g) ?? [];

/**
 * Both sides' changes of a text in one, as a start for a person who settles them by hand: word by word where they are
 * apart, and one after the other where both changed the same words.
 */
export function bothTexts(base: string, source: string, destination: string): string {
  const words = (text: string): string[] => text.match(/\s+|\S+/g) ?? [];
  const regions = diff3Merge(words(source), words(base), words(destination), { excludeFalseConflicts: true });
  return regions
    .map(
      ({ ok, conflict }) => ok?.join('') ?? [conflict?.a, conflict?.b].map((side) => side?.join('').trim()).join(' '),
    )
    .join('');
}
