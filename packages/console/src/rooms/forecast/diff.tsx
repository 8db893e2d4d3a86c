import { diffWordsWithSpace } from 'diff';
import type { JSX } from 'react';

const LONGEST_DIFF = 4000;

interface Part {
  readonly text: string;
  readonly isMarked: boolean;
}

/** Numbers, dates and single words are replaced as a whole. */
const isOneWord = (...values: readonly string[]): boolean => values.every((value) => !/\s/.test(value.trim()));

/** Marked words with nothing but blanks and marks between them are one; blanks at their ends are not marked. */
function joined(parts: readonly Part[]): Part[] {
  const found: Part[] = [];
  for (const [i, part] of parts.entries()) {
    const isBetween =
      !part.isMarked && found.at(-1)?.isMarked && parts[i + 1]?.isMarked && /^[\s\p{P}]{1,3}$/u.test(part.text);
    const isMarked = part.isMarked || isBetween === true;
    const last = found.at(-1);
    if (last && last.isMarked === isMarked) found[found.length - 1] = { text: last.text + part.text, isMarked };
    else found.push({ text: part.text, isMarked });
  }
  return found.flatMap(({ text, isMarked }) => {
    if (!isMarked) return [{ text, isMarked }];
    const [, before = '', words = '', after = ''] = /^(\s*)([\s\S]*?)(\s*)$/.exec(text) ?? [];
    return [
      { text: before, isMarked: false },
      { text: words, isMarked: true },
      { text: after, isMarked: false },
    ].filter((part) => part.text !== '');
  });
}

function partsOf(before: string, after: string, drop: 'removed' | 'added'): Part[] {
  const kept = diffWordsWithSpace(before, after).filter((part) => !part[drop]);
  return joined(kept.map((part) => ({ text: part.value, isMarked: part.added || part.removed })));
}

/** Words that one side changed stand out; the rest is as it was. */
export function Changed({ before, after }: { readonly before: string | null; readonly after: string }): JSX.Element {
  if (before === null || isOneWord(before, after) || before.length + after.length > LONGEST_DIFF)
    return <ins>{after}</ins>;
  return (
    <>
      {partsOf(before, after, 'removed').map(({ text, isMarked }, i) =>
        isMarked ? <ins key={`${String(i)} ${text}`}>{text}</ins> : <span key={`${String(i)} ${text}`}>{text}</span>,
      )}
    </>
  );
}

/** What was replaced is struck through. */
export function Replaced({ before, after }: { readonly before: string; readonly after: string | null }): JSX.Element {
  if (after !== null && isOneWord(before, after)) return before === after ? <span>{before}</span> : <del>{before}</del>;
  if (after === null || before.length + after.length > LONGEST_DIFF) return <>{before}</>;
  return (
    <>
      {partsOf(before, after, 'added').map(({ text, isMarked }, i) =>
        isMarked ? <del key={`${String(i)} ${text}`}>{text}</del> : <span key={`${String(i)} ${text}`}>{text}</span>,
      )}
    </>
  );
}
