/** A number of things of one kind, such as 12 pages. */
export interface Amount {
  readonly count: number;
  readonly kind: string;
  readonly plural: string;
}

/** What the sentence above a push, pull or undo tells. */
export interface PushSentence {
  /** `back`: a transfer is undone. */
  readonly direction: 'up' | 'down' | 'back';
  /** An environment, or the transfer that is undone. */
  readonly from: string;
  readonly onto: string;
  readonly written: readonly Amount[];
  /** Collected things that the destination took since the baseline. */
  readonly stay: readonly Amount[];
  /** Things that the destination changed itself and that the push overwrites. */
  readonly lost: readonly Amount[];
  readonly collisions: number;
}

/** A piece of a sentence; the console sets `strong` pieces heavier and `path` pieces in mono. */
export interface SentencePiece {
  readonly text: string;
  readonly tone: 'plain' | 'strong' | 'path' | 'needs-you';
}

const number = (count: number): string => count.toLocaleString('en-GB');

/** An amount with its noun: `1 page`, `1,200 pages`. */
export const amount = (one: Amount): string => `${number(one.count)} ${one.count === 1 ? one.kind : one.plural}`;

/** A count with its noun, by the common rule of plurals: `1 row`, `2 rows`. */
export const counted = (count: number, noun: string): string => amount({ count, kind: noun, plural: `${noun}s` });

/** Joins amounts: `12 pages, 3 files and 1 menu`; largest first. */
export function listAmounts(amounts: readonly Amount[]): string {
  const texts = amounts.filter((one) => one.count > 0).map(amount);
  return texts.length < 2 ? (texts[0] ?? 'nothing') : `${texts.slice(0, -1).join(', ')} and ${texts.at(-1)}`;
}

/** How many things some amounts are together. */
export const total = (amounts: readonly Amount[]): number => amounts.reduce((sum, one) => sum + one.count, 0);

const WORDS = {
  up: { verb: 'Write', toward: 'onto', kept: 'took meanwhile' },
  down: { verb: 'Bring', toward: 'into', kept: 'changed itself' },
  back: { verb: 'Take back', toward: 'from', kept: 'changed meanwhile' },
} as const;

/** The sentence that a push, pull or undo says of itself everywhere. */
export function pushSentence(facts: PushSentence): SentencePiece[] {
  const ontoName = facts.onto.split('/')[1] ?? facts.onto;
  const words = WORDS[facts.direction];
  const pieces: SentencePiece[] = [
    { text: `${words.verb} `, tone: 'plain' },
    { text: listAmounts(facts.written), tone: 'strong' },
    { text: facts.direction === 'back' ? ' of ' : ' from ', tone: 'plain' },
    { text: facts.from, tone: 'path' },
    { text: ` ${words.toward} `, tone: 'plain' },
    { text: facts.onto, tone: 'path' },
  ];
  if (total(facts.lost) > 0) {
    pieces.push(
      { text: '; overwrite ', tone: 'plain' },
      { text: listAmounts(facts.lost), tone: 'needs-you' },
      { text: ` that ${ontoName} changed meanwhile`, tone: 'plain' },
    );
  }
  if (total(facts.stay) > 0) {
    pieces.push(
      { text: '; ', tone: 'plain' },
      { text: listAmounts(facts.stay), tone: 'strong' },
      { text: ` that ${ontoName} ${words.kept} `, tone: 'plain' },
      { text: total(facts.stay) === 1 ? 'stays' : 'stay', tone: 'strong' },
    );
  }
  if (facts.collisions > 0) {
    pieces.push(
      { text: '; ', tone: 'plain' },
      {
        text: `${number(facts.collisions)} ${facts.collisions === 1 ? 'collision' : 'collisions'} to settle`,
        tone: 'needs-you',
      },
    );
  }
  return [...pieces, { text: '.', tone: 'plain' }];
}

/** The confirm button's words: `Write 16 items onto live`, `Bring 3 items into staging`. */
export function shortSentence(facts: PushSentence): string {
  const count = total(facts.written);
  const ontoName = facts.onto.split('/')[1] ?? facts.onto;
  const { verb, toward } = WORDS[facts.direction];
  return count === 0
    ? `Nothing to ${verb.toLowerCase()} ${toward} ${ontoName}`
    : `${verb} ${counted(count, 'item')} ${toward} ${ontoName}`;
}

/** A sentence as plain text. */
export const sentenceText = (pieces: readonly SentencePiece[]): string => pieces.map((piece) => piece.text).join('');

/** Sentences of the other transfers. */
export function plainSentence(
  facts:
    | { kind: 'clone'; from: string; onto: string; leftOut: number }
    | { kind: 'preview'; onto: string; of: string; title: string }
    | { kind: 'reset'; from: string; onto: string }
    | { kind: 'restore'; snapshot: string; onto: string }
    | { kind: 'snapshot'; of: string }
    | { kind: 'remove'; environment: string }
    | { kind: 'rename'; from: string; to: string }
    | { kind: 'adopt'; environment: string }
    | { kind: 'leave'; environment: string },
): SentencePiece[] {
  const plain = (text: string): SentencePiece => ({ text, tone: 'plain' });
  const path = (text: string): SentencePiece => ({ text, tone: 'path' });
  switch (facts.kind) {
    case 'clone':
      return [
        plain('Make '),
        path(facts.onto),
        plain(' as a copy of '),
        path(facts.from),
        plain(
          facts.leftOut > 0
            ? `, leaving out ${counted(facts.leftOut, 'thing')}, personal data masked.`
            : ', personal data masked.',
        ),
      ];
    case 'preview':
      return [
        plain('Make '),
        path(facts.onto),
        plain(' what '),
        path(facts.of),
        plain(' would be with '),
        { text: facts.title, tone: 'strong' },
        plain(', personal data masked.'),
      ];
    case 'reset':
      return [
        plain('Make '),
        path(facts.onto),
        plain(' the double of '),
        path(facts.from),
        plain(' again; work that exists only there goes.'),
      ];
    case 'restore':
      return [plain('Restore snapshot '), path(facts.snapshot), plain(' onto '), path(facts.onto), plain('.')];
    case 'snapshot':
      return [plain('Take a snapshot of '), path(facts.of), plain('.')];
    case 'rename':
      return [plain('Rename '), path(facts.from), plain(' to '), path(facts.to), plain('; its address follows.')];
    case 'remove':
      return [plain('Remove '), path(facts.environment), plain(' with its files and databases.')];
    case 'adopt':
      return [plain('Bring in '), path(facts.environment), plain(' as it runs.')];
    case 'leave':
      return [plain('Give '), path(facts.environment), plain(' back as it was found, and forget the site.')];
  }
}
