/** Where a store of objects is, as plain data: a thread opens it by that. */
export interface ObjectPlace {
  readonly kind: string;
  /** Within what the kind has, such as a folder's path. */
  readonly at: string;
}

/** An object while it is written. Nobody sees anything of it before it is finished; until then it may be given up. */
export interface NewObject {
  append(pieces: readonly Uint8Array[]): Promise<void>;
  /** Lets the whole be there under its name, in place of what was, once no loss of power can undo it. */
  finish(): Promise<void>;
  /** Safe after {@link finish}, too: then it does nothing. */
  abandon(): Promise<void>;
}

/** An object as it was when it was opened, whatever becomes of its name. */
export interface OpenObject {
  readonly size: number;
  /** Bytes from `start`; fewer where it ends before. */
  read(start: number, length: number): Promise<Buffer>;
  /** All bytes from `start` up to and without `end`. */
  stream(start: number, end: number): AsyncIterable<Buffer>;
  close(): Promise<void>;
}

/**
 * A store of objects by name: where packs, manifests and change sets lie. Names are of letters, digits, `.`, `-`, `+` and `_`,
 * in groups before a `/`. An object is there as a whole or not at all, in the moment of a death too.
 *
 * What cannot be done is thrown as {@link EngineError}, such as `disk-full`.
 */
export interface ObjectStore {
  readonly place: ObjectPlace;
  create(name: string): Promise<NewObject>;
  /** Writes an object that is small enough to be held, as {@link create} does. */
  put(name: string, content: Uint8Array): Promise<void>;
  /** @returns undefined where there is none */
  get(name: string): Promise<Buffer | undefined>;
  /**
   * A part of an object that is never written anew under its name, so that it may be kept open; less where it ends before.
   *
   * @throws {EngineError} `file-gone` where there is none
   */
  part(name: string, start: number, length: number): Buffer | Promise<Buffer>;
  /** @returns undefined where there is none */
  open(name: string): Promise<OpenObject | undefined>;
  /** Names in a group, without the group; none where it is not there. */
  list(group: string): Promise<string[]>;
  /** When an object was finished; undefined where there is none. */
  changedAt(name: string): Promise<Date | undefined>;
  /** @throws {EngineError} `file-gone` where there is none */
  copy(name: string, to: string): Promise<void>;
  /** Removes an object, if it is there. */
  remove(name: string): Promise<void>;
  /** Removes what was begun in a group before a moment, and never finished nor given up. */
  removeUnfinished(group: string, before: Date): Promise<void>;
}
