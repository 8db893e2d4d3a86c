/** An entry as it is sealed. What could identify somebody beyond their id stands beside it and can be erased. */
export interface SealableEntry {
  readonly id: string;
  /** RFC 3339, UTC. */
  readonly at: string;
  /** Kind and id of who acted: `person p-…`, `token k-…`, `schedule`, `link l-…`. */
  readonly actor: string;
  readonly act: string;
  readonly outcome: 'done' | 'refused' | 'failed';
  /** What it was done to, as a path or an id; empty for the installation. */
  readonly thing: string;
  /** Canonical JSON (see {@link canonicalJson}). */
  readonly details: string;
  /** Digest of the erasable side record, salted there; empty without one. */
  readonly side: string;
}

/** Who acted, beside an entry: salted, so that its digest tells nothing once it is erased. */
export interface SideRecord {
  readonly salt: string;
  /** Canonical JSON. */
  readonly text: string;
}

/** The digest that an entry keeps of its side record. */
export const digestOfSide = ({ salt, text }: SideRecord, digest: KeyedDigest): string => digest(`side ${salt} ${text}`);

/** What was taken out of a journal as it should be, by what entries of it say. */
export interface Erasures {
  /** Ids of people who were erased. */
  readonly people: ReadonlySet<string>;
  /** Entries that something was taken out of, by id, with the stamp that each has since. */
  readonly entries: ReadonlyMap<string, string>;
}

/** Whom an entry's actor is, where it is a person. */
const personOf = (actor: string): string | undefined => /^person (\S+)/.exec(actor)?.[1];

/** A keyed digest (HMAC-SHA-256) of some text, in hexadecimal. */
export type KeyedDigest = (text: string) => string;

/** JSON with the keys of every object in order, so that the same entry always has the same text. */
export function canonicalJson(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map((one) => canonicalJson(one ?? null)).join(',')}]`;
  if (typeof value === 'object' && value !== null) {
    const parts = Object.entries(value)
      .filter(([, one]) => one !== undefined)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([key, one]) => `${JSON.stringify(key)}:${canonicalJson(one)}`);
    return `{${parts.join(',')}}`;
  }
  return JSON.stringify(value ?? null);
}

const entryText = ({ id, at, actor, act, outcome, thing, details, side }: SealableEntry): string =>
  JSON.stringify([id, at, actor, act, outcome, thing, details, side]);

/** What an entry carries from the moment that it is written: nobody without the key can write one. */
export const stampOf = (entry: SealableEntry, digest: KeyedDigest): string => digest(`entry ${entryText(entry)}`);

/** The seal of an entry at a position: it binds the entry, its place, and everything before it. */
export const sealOf = (position: number, former: string, stamp: string, digest: KeyedDigest): string =>
  digest(`seal ${position} ${former} ${stamp}`);

/** Before the first entry. */
export const NO_SEAL = '';

/** How far the chain reached when it was written down elsewhere, signed with the key. */
export interface SignedHead {
  readonly position: number;
  readonly seal: string;
  readonly at: string;
  readonly signature: string;
}

/** Signs where a journal ends, so that entries cut off its end are missed; `digest` holds the installation's key. */
export const signHead = ({ position, seal, at }: Omit<SignedHead, 'signature'>, digest: KeyedDigest): SignedHead => ({
  position,
  seal,
  at,
  signature: digest(`head ${position} ${seal} ${at}`),
});

const isSigned = (head: SignedHead, digest: KeyedDigest): boolean =>
  signHead(head, digest).signature === head.signature;

/** An entry with its place in the chain, as it is stored. */
export interface SealedEntry extends SealableEntry {
  readonly position: number;
  readonly stamp: string;
  readonly seal: string;
  /** Undefined where there is none any more. */
  readonly sideRecord: SideRecord | undefined;
}

/** What is wrong at a place of a journal; positions count from 1. */
export type JournalFault =
  | { readonly what: 'altered'; readonly position: number; readonly entry: string }
  /** Entries are gone from `position` up to and with `last`. */
  | { readonly what: 'missing'; readonly position: number; readonly last: number }
  | { readonly what: 'out of order'; readonly position: number; readonly entry: string }
  /** Who it was is not what was written, or is gone though nobody erased them. */
  | { readonly what: 'who altered' | 'who gone'; readonly position: number; readonly entry: string }
  /** Nothing is left at all. */
  | { readonly what: 'empty' }
  /** Nothing is written down outside of a journal that has been sealed for long. */
  | { readonly what: 'no heads'; readonly file: string }
  | { readonly what: 'cut off'; readonly position: number; readonly written: string }
  | { readonly what: 'head not ours'; readonly position: number }
  | { readonly what: 'foreign'; readonly entry: string };

/**
 * Checks a journal entry by entry, in the order of positions; feed it with {@link next}, then ask {@link end}.
 * One removed, altered or inserted entry is named, and the check goes on behind it.
 */
export class JournalCheck {
  readonly faults: JournalFault[] = [];
  #position: number;
  /** Undefined where the entry before is gone: the next one answers for itself by its stamp. */
  #seal: string | undefined;
  readonly #heads: Map<number, SignedHead>;

  /**
   * @param heads what was written down elsewhere
   * @param erasures what may be missing
   * @param start what the entry before the first one has, where only a stretch is checked
   */
  constructor(
    readonly digest: KeyedDigest,
    heads: readonly SignedHead[],
    private readonly erasures: Erasures,
    start: { readonly position: number; readonly seal: string | undefined } = { position: 0, seal: NO_SEAL },
  ) {
    this.#position = start.position;
    this.#seal = start.seal;
    this.#heads = new Map();
    for (const head of heads)
      if (isSigned(head, digest)) this.#heads.set(head.position, head);
      else this.faults.push({ what: 'head not ours', position: head.position });
  }

  get checked(): number {
    return this.#position;
  }

  next(entry: SealedEntry): void {
    const { position, id } = entry;
    if (position <= this.#position) {
      this.faults.push({ what: 'out of order', position, entry: id });
      return;
    }
    const isNext = position === this.#position + 1;
    if (!isNext) this.faults.push({ what: 'missing', position: this.#position + 1, last: position - 1 });
    const stamp = stampOf(entry, this.digest);
    const isStamped = stamp === (this.erasures.entries.get(id) ?? entry.stamp);
    // Behind a gap the former seal is unknown.
    const isSealed =
      !isNext || this.#seal === undefined || sealOf(position, this.#seal, entry.stamp, this.digest) === entry.seal;
    const head = this.#heads.get(position);
    if (!isStamped || !isSealed || (head && head.seal !== entry.seal))
      this.faults.push({ what: 'altered', position, entry: id });
    const side = this.#checkSide(entry);
    if (side) this.faults.push({ what: side, position, entry: id });
    this.#position = position;
    this.#seal = entry.seal;
  }

  #checkSide({ side, sideRecord, actor }: SealedEntry): 'who altered' | 'who gone' | undefined {
    if (sideRecord) return digestOfSide(sideRecord, this.digest) === side ? undefined : 'who altered';
    const person = personOf(actor);
    return side === '' || (person !== undefined && this.erasures.people.has(person)) ? undefined : 'who gone';
  }

  /** An entry that has no seal yet. @returns whether it is ours */
  unsealed(entry: SealableEntry & { readonly stamp: string }): boolean {
    const isOurs = stampOf(entry, this.digest) === entry.stamp;
    if (!isOurs) this.faults.push({ what: 'foreign', entry: entry.id });
    return isOurs;
  }

  /** @param last where the stretch ends; without it, where the heads say that it must have reached */
  end(last?: number): readonly JournalFault[] {
    if (last !== undefined) {
      if (this.#position < last) this.faults.push({ what: 'missing', position: this.#position + 1, last });
      return this.faults;
    }
    for (const head of this.#heads.values())
      if (head.position > this.#position)
        this.faults.push({ what: 'cut off', position: head.position, written: head.at });
    return this.faults;
  }
}
