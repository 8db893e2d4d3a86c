import { hash } from 'node:crypto';
import { isDeepStrictEqual } from 'node:util';
import type { Check } from '@tessarion/contract';
import {
  type Amount,
  type ByteString,
  type Change,
  type ChangedItem,
  checksOf,
  collectedAmounts,
  countNews,
  countRewrites,
  fileChange,
  followedAmounts,
  freshKeysOf,
  GatheredFiles,
  GatheredRows,
  ItemCollector,
  imageChange,
  isChosen,
  isOneImage,
  type KeyPair,
  type ListedTask,
  listTasks,
  type MergePlan,
  ownWork,
  type PushSentence,
  planMerge,
  pushSentence,
  readTableId,
  type SchemaChange,
  type Selectable,
  type Settled,
  type SettledFile,
  type Settlement,
  schemaItem,
  schemaSelectable,
  settle,
  settleFiles,
  shortSentence,
  spellingOf,
  strayAddresses,
  strayCheck,
  tasksCheck,
  toBytes,
  toText,
  touchedTables,
  unlikeColumnsCheck,
  unreadCheck,
  withoutNewPlaces,
} from '@tessarion/core';
import {
  type Baseline,
  type Environment,
  type EnvironmentComparison,
  rewriterOf,
  type TransferSource,
} from '@tessarion/engine';
import { checkFit } from './forecast-checks.js';
import { noteMore } from './item-notes.js';
import { stampNames } from './stamps.js';
import type { TransferFacts, TransferWish } from './transfer-facts.js';

const digest = (text: string): string => hash('sha256', text, 'hex').slice(0, 32);

/** A key by which a row goes until its own is drawn; no site has negative ones. */
const provisional = (key: ByteString, isMoving: boolean): ByteString =>
  /^\d{1,9}$/.test(key) ? `-${2 * Number(key) + (isMoving ? 2 : 1)}` : '-1';

/** An undo leaves it, wholly or in part, since others changed it or need it. */
export const staysAsItIs = (item: ChangedItem): boolean =>
  item.collisions.some((one) => one.settled?.take === 'destination');

/** Gathers what a forecast tells from a comparison, while it is made. */
export class Gathering {
  readonly #collector: ItemCollector;
  readonly #selectable = new Map<string, Selectable>();
  readonly #files: GatheredFiles;
  readonly #rows: GatheredRows;

  constructor(
    readonly comparison: EnvironmentComparison,
    readonly from: Environment,
    readonly destination: Environment,
    readonly wish: TransferWish,
    readonly baseline: Baseline | undefined,
    readonly otherHosts: readonly string[],
  ) {
    this.#collector = new ItemCollector(destination.profile, digest, spellingOf(destination));
    this.#files = new GatheredFiles(this.#collector, this.#selectable);
    this.#rows = new GatheredRows(this.#collector, this.#selectable, this, (name) => this.#wished(name));
  }

  /** @param basis a digest of what the comparison goes by beside its ends */
  async facts(
    source: TransferSource | { readonly undoes: string },
    basis: string,
    pair: { createdAt: Date; ids: NonNullable<TransferFacts['baselineIds']> } | undefined,
  ): Promise<TransferFacts> {
    const { comparison, destination, wish } = this;
    const { merge } = comparison;
    const isUndo = 'undoes' in source;
    this.#rows.noteStamps(await stampNames(comparison, this.from, destination));
    const chosen = (id: string): boolean => isChosen(wish.wishes, this.#selectable.get(id) as Selectable);
    const { settled, files } = await this.#settle(chosen);
    const keysToDraw = freshKeysOf(comparison.rows, settled);
    const known = this.baseline?.keys ?? [];
    const plan = (drawn: ReadonlyMap<ByteString, ByteString>): MergePlan =>
      planMerge(comparison.rows, settled, merge, known, drawn);
    // As long as no key is to be drawn it is also what will be written.
    const provisionally = plan(
      new Map(keysToDraw.map(({ placeholder, former, isMoving }) => [placeholder, provisional(former, isMoving)])),
    );
    this.#rows.add(settled, provisionally);
    this.#rows.stampItems();
    for (const file of files) this.#files.add(file, chosen);
    this.#addSchema();
    for (const [item, because] of settled.takenAlong) {
      const [one, dependent] = [this.#collector.items.get(item), this.#collector.items.get(because)];
      if (one && !chosen(item)) one.takenAlongFor = dependent?.title ?? because;
    }
    await noteMore(this.#collector, comparison, this.from, destination, (outcome) => this.#rows.ownerOf(outcome));
    const writtenFiles = files.filter((file) => this.#files.isWritten(file, chosen));
    const schemaChanges = this.#schemaChanges();
    const tasks = listTasks(destination.profile, wish.wishes);
    const changes = [...provisionally.changes.map((one) => one.change), ...writtenFiles.flatMap(fileChange)];

    const checks = await this.#checks(source, changes, settled, tasks, schemaChanges);
    const collector = this.#collector;
    const kept = this.#kept(isUndo);
    const said = this.#said(source, provisionally, kept);
    return {
      direction: merge.direction,
      collector,
      changes,
      // What an undo leaves is listed item by item.
      kept: isUndo ? [] : kept,
      rewrites: countRewrites(changes).map((one) => ({ ...one, table: collector.partOf(one.table) })),
      touched: touchedTables(changes, comparison.triggers, destination.profile),
      schemaChanges,
      reshaped: comparison.reshaped,
      decided: this.#decided(),
      ...this.#leftAside(),
      checks,
      sentence: pushSentence(said),
      button: shortSentence({ ...said, written: this.#written() }),
      written: [...said.written],
      lost: [...said.lost],
      unsettled: said.collisions,
      news: countNews(comparison, collector),
      editedTables: new Set(
        settled.collisions.flatMap((one) => (one.settled?.take === 'edited' ? [one.outcome.table.id] : [])),
      ),
      tasks,
      // What runs with it is a part of what was read.
      fingerprint:
        tasks.length === 0 ? collector.fingerprint() : digest(`${collector.fingerprint()} ${JSON.stringify(tasks)}`),
      baselineAt: pair?.createdAt,
      baselineIds: pair?.ids,
      keysToDraw,
      basis,
      standing: comparison.standing,
      plan: (drawn) => {
        const rows = keysToDraw.length === 0 ? provisionally : plan(drawn);
        const edits = (end: 'source' | 'destination') => this.#files.edits(files, chosen, end);
        const [filesOfSource, filesOfDestination] = [edits('source'), edits('destination')];
        const isOne = isOneImage(rows) && isDeepStrictEqual(filesOfSource, filesOfDestination);
        const source = [...rows.source.map(imageChange), ...filesOfSource];
        return {
          changes: [...rows.changes.map((one) => one.change), ...writtenFiles.flatMap(fileChange)],
          source,
          destination: isOne ? source : [...rows.destination.map(imageChange), ...filesOfDestination],
          pairs: rows.pairs,
          namesThere: this.#namesThere([...known, ...rows.pairs]),
        };
      },
    };
  }

  /** Follows what people chose, in rows and in files. */
  async #settle(isChosen: (id: string) => boolean): Promise<{ settled: Settled; files: SettledFile[] }> {
    const { comparison, wish } = this;
    // A push by replace never asks: what cannot go stays.
    const rest = wish.method === 'replace' ? 'destination' : (wish.wishes.rest ?? undefined);
    const isSettled = Object.keys(wish.wishes.settlements).length > 0;
    const settlements = isSettled ? this.#rows.settlements() : new Map<string, Settlement>();
    const settled = await settle(
      comparison.rows,
      comparison.merge,
      { isChosen, settlements, rest },
      comparison.facts,
      (outcome) => this.#rows.itemOf(outcome),
    );
    const files = settleFiles(comparison.files, (outcome) => {
      const wished = this.#wished(this.#collector.fileItem(outcome.root, outcome.path).id);
      return wished?.take === 'edited' ? undefined : (wished?.take ?? rest);
    });
    return { settled, files };
  }

  /** Everything that may stand in the way, and what is worth knowing. */
  async #checks(
    source: TransferSource | { readonly undoes: string },
    changes: readonly Change[],
    settled: Settled,
    tasks: ListedTask[],
    schemaChanges: readonly SchemaChange[],
  ): Promise<Check[]> {
    const { comparison, from, destination, wish } = this;
    const checks: Check[] = checksOf(comparison, from, destination, wish, this.#selectable.values(), this.#collector);
    if (!checks.some((check) => check.state === 'failed'))
      checks.push(await checkFit(destination, withoutNewPlaces(changes, comparison.schema, schemaChanges)));
    if (!('undoes' in source) && !('snapshot' in source) && from.kind === destination.kind)
      checks.push({
        name: 'lane',
        state: 'failed',
        message: `${from.path} and ${destination.path} are both ${destination.kind}: they are compared, and nothing moves between them.`,
        remedy: `Take one of them up: tessarion push --from ${from.path}`,
      });
    checks.push(...unlikeColumnsCheck(comparison.schema, changes, destination.path));
    checks.push(...unreadCheck(settled.written, destination.profile), ...tasksCheck(tasks, wish.wishes));
    const stray = strayAddresses(changes, this.otherHosts);
    if (stray.length > 0) checks.push(strayCheck(stray, destination.profile));
    return checks;
  }

  /** What the destination keeps. */
  #kept(isUndo: boolean): Amount[] {
    const { comparison, destination } = this;
    if (isUndo) return this.#collector.amounts(staysAsItIs);
    return comparison.merge.direction === 'up'
      ? collectedAmounts(comparison, destination.profile)
      : ownWork(comparison, this.#collector, destination.profile);
  }

  /** Items that would be written. */
  #written(): Amount[] {
    return this.#collector
      .amounts((item) => item.outcome === 'written')
      .map((one) => (one.kind === 'schema' ? { ...one, kind: 'schema change', plural: 'schema changes' } : one));
  }

  /** What the sentence above the forecast tells. */
  #said(source: TransferSource | { readonly undoes: string }, plan: MergePlan, kept: readonly Amount[]): PushSentence {
    const { comparison, from, destination } = this;
    const collector = this.#collector;
    const titled = kept.filter((one) => !one.kind.startsWith('row of '));
    const stay = (titled.length > 0 ? titled : kept).toSorted((a, b) => b.count - a.count).slice(0, 3);
    const followed = followedAmounts(comparison, plan, (one) => this.#rows.isFollowing(one), destination.profile);
    const ends =
      'undoes' in source
        ? { direction: 'back' as const, from: source.undoes }
        : {
            direction: comparison.merge.direction,
            from:
              'snapshot' in source
                ? `${from.path} at ${source.snapshot.takenAt.slice(0, 16).replace('T', ' ')} UTC`
                : from.path,
          };
    return {
      ...ends,
      onto: destination.path,
      written: [...this.#written(), ...followed],
      stay,
      lost: collector.amounts((item) => item.outcome === 'written' && item.overwrites),
      collisions: [...collector.items.values()].filter((item) => item.outcome === 'needs-you').length,
    };
  }

  /** Tables that take no part, and why. */
  #leftAside(): Pick<TransferFacts, 'neverMoves' | 'unclassified'> {
    const { notes } = this.comparison;
    return {
      neverMoves: notes.flatMap((note) =>
        note.type === 'never-moves' ? [{ table: note.table, because: note.because }] : [],
      ),
      unclassified: notes.flatMap((note) =>
        note.type === 'unclassified' ? [{ database: note.database, table: note.table, rows: note.rows }] : [],
      ),
    };
  }

  /** How the destination knows items that have another key there, by how the source knows them. */
  #namesThere(pairs: readonly KeyPair[]): ReadonlyMap<string, string> {
    const names = new Map<string, string>();
    for (const { table: id, from, to } of pairs) {
      const table = readTableId(id);
      const [here, there] = [from, to].map((key) => this.#collector.itemId(table, toText(key))) as [string, string];
      if (here !== there && this.#collector.items.has(here)) names.set(here, there);
    }
    return names;
  }

  /** What a person wished for a collision, or for the whole of the item that it stands in. */
  #wished(name: string): Settlement | undefined {
    const { settlements } = this.wish.wishes;
    for (let at = name; at !== ''; at = at.includes('/') ? at.slice(0, at.lastIndexOf('/')) : '') {
      const found = settlements[at];
      if (!found) continue;
      if (found.take !== 'edited') return { take: found.take };
      if (at !== name) continue;
      const { value } = found;
      const { value: canonical } = rewriterOf(this.destination).canonicalise(toBytes(value ?? ''));
      return { take: 'edited', value: value === null || value === undefined ? null : canonical };
    }
    return undefined;
  }

  /** Differences of how tables are made, each as an item of its own. */
  #addSchema(): void {
    const { comparison, from, destination, wish } = this;
    for (const one of comparison.schema) {
      const item = schemaItem(one, { from, destination }, wish.wishes, this.#wished(one.id), digest);
      this.#collector.items.set(one.id, item);
      this.#selectable.set(one.id, schemaSelectable(one.id));
    }
  }

  /** What is changed about the destination's tables before rows are written. */
  #schemaChanges(): SchemaChange[] {
    return this.comparison.schema
      .filter((one) => this.#collector.items.get(one.id)?.outcome === 'written')
      .map(({ id, database, statements, revert, isIndex }) => ({ id, database, statements, revert, isIndex }));
  }

  /** Differences about which somebody has decided, so that nobody is asked again. */
  #decided(): string[] {
    return this.comparison.schema
      .filter((one) => ['written', 'kept'].includes(this.#collector.items.get(one.id)?.outcome ?? ''))
      .map((one) => one.id);
  }
}
