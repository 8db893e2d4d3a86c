import { diffWordsWithSpace } from 'diff';
import type { JSX } from 'react';

const LONGEST_DIFF = 4000;

/** Numbers, dates and single words are replaced as a whole. */
const isOneWord = (...values: readonly string[]): boolean => values.every((value) => !/\s/.test(value.trim()));

/** Words that one side changed stand out; the rest is as it was. */
export function Changed({ before, after }: { readonly before: string | null; readonly after: string }): JSX.Element {
  if (before === null || isOneWord(before, after) || before.length + after.length > LONGEST_DIFF)
    return <ins>{after}</ins>;
  return (
    <>
      {diffWordsWithSpace(before, after)
        .filter((part) => !part.removed)
        .map((part, i) =>
          part.added ? (
            <ins key={`${String(i)} ${part.value}`}>{part.value}</ins>
          ) : (
            <span key={`${String(i)} ${part.value}`}>{part.value}</span>
          ),
        )}
    </>
  );
}

/** What was replaced is struck through. */
export function Replaced({ before, after }: { readonly before: string; readonly after: string | null }): JSX.Element {
  if (after !== null && isOneWord(before, after)) return <del>{before}</del>;
  if (after === null || before.length + after.length > LONGEST_DIFF) return <>{before}</>;
  return (
    <>
      {diffWordsWithSpace(before, after)
        .filter((part) => !part.added)
        .map((part, i) =>
          part.removed ? (
            <del key={`${String(i)} ${part.value}`}>{part.value}</del>
          ) : (
            <span key={`${String(i)} ${part.value}`}>{part.value}</span>
          ),
        )}
    </>
  );
}
