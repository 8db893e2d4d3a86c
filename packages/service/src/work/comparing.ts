import { createHash, createHmac } from 'node:crypto';
import type { Check, Forecast, ForecastWishes } from '@tessarion/contract';
import {
  type ByteString,
  type Change,
  type Collision,
  type FileChange,
  type FileOutcome,
  freshKeysOf,
  type ImageEdit,
  ItemCollector,
  type ItemCollision,
  type ItemField,
  isChosen,
  isFresh,
  isNamed,
  isSame,
  itemForTable,
  type MergePlan,
  type MergeTable,
  maskValue,
  type Profile,
  planMerge,
  pluralOf,
  pushSentence,
  type RowChange,
  type RowOutcome,
  type Selectable,
  type SentencePiece,
  type Settled,
  type SettledFile,
  type Settlement,
  type Side,
  type Standing,
  type StrayAddress,
  settle,
  settleFiles,
  shortSentence,
  shownValue,
  strayAddresses,
  timeOf,
  toBytes,
  toText,
  type Values,
} from '@tessarion/core';
import {
  type Baseline,
  ChangeRecords,
  compareEnvironments,
  type Environment,
  type EnvironmentComparison,
  HashMemory,
  type Misfit,
  misfitsOfChanges,
  misfitText,
  profileName,
  rewriterOf,
  type TransferSource,
  usesOf,
} from '@tessarion/engine';
import { profileOfSite } from '../records/environments.js';
import { libraryOf } from '../records/snapshots.js';
import { collisionWords } from './collision-words.js';
import type { Installation } from './context.js';
import { maskCheck } from './mask-check.js';
import { packedBaseline } from './packing.js';
import { lowerOf } from './pair.js';
import { otherHosts } from './proof.js';

/** How two environments are to be brought together. */
export interface TransferWish {
  readonly method: 'merge' | 'replace';
  readonly wishes: ForecastWishes;
}

export const NO_WISHES: ForecastWishes = { only: [], except: [], settlements: {}, rest: null };

/** What a transfer would do, as far as the comparison tells. */
export interface TransferFacts {
  readonly direction: 'up' | 'down';
  readonly collector: ItemCollector;
  /** The changes as they would be written; keys that are to be drawn are negative. */
  readonly changes: readonly Change[];
  readonly kept: Amounts;
  readonly neverMoves: { table: string; because: string }[];
  readonly checks: Check[];
  readonly sentence: SentencePiece[];
  readonly button: string;
  readonly written: Forecast['written'];
  readonly lost: Forecast['lost'];
  /** Items in which something is still to be settled. */
  readonly unsettled: number;
  /** Items that the destination changed itself since the two last had them in common. */
  readonly news: number;
  /** What visitors made, by table, as it was when it was compared. */
  readonly collected: readonly { readonly table: string; readonly rows: number }[];
  /** Tables in which an edited value stands, which the database may spell otherwise. */
  readonly editedTables: ReadonlySet<string>;
  readonly fingerprint: string;
  readonly baselineAt: Date | undefined;
  readonly baselineIds: { lower: string; upper: string; lowerManifest: string; upperManifest: string } | undefined;
  /** Fresh keys that must be drawn before {@link plan}. */
  readonly keysToDraw: ReturnType<typeof freshKeysOf>;
  plan(drawn: ReadonlyMap<ByteString, ByteString>): WrittenPlan;
}

type Amounts = { count: number; kind: string; plural: string }[];

/** What is written, and what the baselines of both ends become by it. */
export interface WrittenPlan {
  readonly changes: readonly Change[];
  readonly source: readonly Change[];
  readonly destination: readonly Change[];
  readonly pairs: MergePlan['pairs'];
}

const digest = (text: string): string => createHash('sha256').update(text).digest('hex').slice(0, 32);

/** Tables are named `schema.table` in change sets, and without the default schema in profiles. */
const profileTable = (fullName: string): string => {
  const [schema, ...name] = fullName.split('.');
  return profileName({ schema: schema as string, name: name.join('.') });
};

const RANK = { dev: 0, staging: 1, live: 2 } as const;

/** Compares two environments and gathers everything a forecast says. Read only. */
export async function gatherFacts(
  installation: Installation,
  source: TransferSource,
  destination: Environment,
  wish: TransferWish,
): Promise<TransferFacts> {
  const { records, folder } = installation;
  const from = 'snapshot' in source ? source.of : source.environment;
  const direction = RANK[from.kind] > RANK[destination.kind] ? 'down' : 'up';
  const library = libraryOf(folder, destination.site);
  const lower = lowerOf(from, destination);
  const upper = lower === from.path ? destination.path : from.path;
  const pair = 'snapshot' in source ? undefined : await packedBaseline(installation, lower, upper);
  let baseline: Baseline | undefined;
  if (pair) {
    const below = await library.load(pair.lower_manifest);
    const above = await library.load(pair.upper_manifest);
    const isLowerSource = pair.lower === from.path;
    baseline = {
      source: isLowerSource ? below : above,
      destination: isLowerSource ? above : below,
      leftOut: pair.left_out,
      isDerived: pair.derived,
      keys: (below.pairs ?? []).map(({ table, lower: down, upper: up }) =>
        isLowerSource ? { table, from: down, to: up } : { table, from: up, to: down },
      ),
    };
  }
  const version = await profileOfSite(records, destination.site);
  const memories = {
    source: await HashMemory.open(folder.memory(from.path)),
    destination: await HashMemory.open(folder.memory(destination.path)),
  };
  const changes = pair && (await ChangeRecords.open(folder.changes(lower, upper)));
  const maskKey = folder.keys.derive(`mask ${destination.site}`);
  const hash = (value: ByteString): Buffer => createHmac('sha256', maskKey).update(value, 'latin1').digest();
  const comparison = await compareEnvironments({
    source,
    destination,
    baseline,
    library,
    memories,
    changes,
    profileVersion: `${version?.name}/${version?.version}`,
    method: wish.method,
    direction,
    mask: (rule, value) => maskValue(rule, value, hash),
  });
  await memories.source.save();
  await memories.destination.save();
  await changes?.save();
  const gathering = new Gathering(
    comparison,
    from,
    destination,
    wish,
    baseline,
    await otherHosts(installation, destination),
  );
  return gathering.facts(
    source,
    pair && {
      createdAt: pair.created_at,
      ids: {
        lower: pair.lower,
        upper: pair.upper,
        lowerManifest: pair.lower_manifest,
        upperManifest: pair.upper_manifest,
      },
    },
  );
}

/** A key by which a row goes until its own is drawn; no site has negative ones. */
const provisional = (key: ByteString, isMoving: boolean): ByteString =>
  /^\d{1,9}$/.test(key) ? `-${2 * Number(key) + (isMoving ? 2 : 1)}` : '-1';

class Gathering {
  readonly #collector: ItemCollector;
  readonly #selectable = new Map<string, Selectable>();

  constructor(
    readonly comparison: EnvironmentComparison,
    readonly from: Environment,
    readonly destination: Environment,
    readonly wish: TransferWish,
    readonly baseline: Baseline | undefined,
    readonly otherHosts: readonly string[],
  ) {
    this.#collector = new ItemCollector(destination.profile, digest);
  }

  async facts(
    source: TransferSource,
    pair: { createdAt: Date; ids: NonNullable<TransferFacts['baselineIds']> } | undefined,
  ): Promise<TransferFacts> {
    const { comparison, destination, wish } = this;
    const { merge } = comparison;
    // A push by replace never asks: what cannot go stays.
    const rest = wish.method === 'replace' ? 'destination' : (wish.wishes.rest ?? undefined);
    const settlements = this.#allSettlements();
    for (const outcome of comparison.rows.outcomes) this.#noteStamps(outcome);
    const chosen = (id: string): boolean => isChosen(wish.wishes, this.#selectable.get(id) as Selectable);
    const settled = await settle(
      comparison.rows,
      merge,
      { isChosen: chosen, settlements, rest },
      comparison.facts,
      (outcome) => this.#itemOf(outcome),
    );
    const files = settleFiles(comparison.files, (outcome) => {
      const wished = this.#wished(this.#collector.fileItem(outcome.root, outcome.path).id);
      return wished?.take === 'edited' ? undefined : (wished?.take ?? rest);
    });
    const keysToDraw = freshKeysOf(comparison.rows, settled);
    const known = this.baseline?.keys ?? [];
    const plan = (drawn: ReadonlyMap<ByteString, ByteString>): MergePlan =>
      planMerge(comparison.rows, settled, merge, known, drawn);
    const provisionally = plan(
      new Map(keysToDraw.map(({ placeholder, former, isMoving }) => [placeholder, provisional(former, isMoving)])),
    );
    this.#addRows(settled, provisionally);
    for (const file of files) this.#addFile(file, chosen);
    for (const [item, because] of settled.takenAlong) {
      const [one, dependent] = [this.#collector.items.get(item), this.#collector.items.get(because)];
      if (one && !chosen(item)) one.takenAlongFor = dependent?.title ?? because;
    }
    await this.#noteUses();
    const writtenFiles = files.filter((file) => this.#isWritten(file, chosen));
    const changes = [...provisionally.changes.map((one) => one.change), ...writtenFiles.flatMap(fileChange)];

    const checks: Check[] = this.#checks();
    if (!checks.some((check) => check.state === 'failed')) checks.push(await checkFit(destination, changes));
    const stray = strayAddresses(changes, this.otherHosts);
    if (stray.length > 0) checks.push(strayCheck(stray));
    const collector = this.#collector;
    const written = collector.amounts((item) => item.outcome === 'written');
    const lost = collector.amounts((item) => item.outcome === 'written' && item.overwrites);
    const unsettled = [...collector.items.values()].filter((item) => item.outcome === 'needs-you').length;
    const kept = merge.direction === 'up' ? this.#collected() : this.#ownWork();
    const titled = kept.filter((one) => !one.kind.startsWith('row of '));
    const stay = (titled.length > 0 ? titled : kept).toSorted((a, b) => b.count - a.count).slice(0, 3);
    const facts = {
      direction: merge.direction,
      from:
        'snapshot' in source
          ? `${this.from.path} at ${source.snapshot.takenAt.slice(0, 16).replace('T', ' ')} UTC`
          : this.from.path,
      onto: destination.path,
      written: [...written, ...this.#followed(provisionally)],
      stay,
      lost,
      collisions: unsettled,
    };
    return {
      direction: merge.direction,
      collector,
      changes,
      kept,
      neverMoves: comparison.notes.flatMap((note) =>
        note.type === 'never-moves' ? [{ table: note.table, because: note.because }] : [],
      ),
      checks,
      sentence: pushSentence(facts),
      button: shortSentence({ ...facts, written }),
      written: facts.written,
      lost,
      unsettled,
      news: this.#news(),
      collected: comparison.notes.flatMap((note) =>
        note.type === 'collected' ? [{ table: note.table, rows: note.rows }] : [],
      ),
      editedTables: new Set(
        settled.collisions.flatMap((one) => (one.settled?.take === 'edited' ? [one.outcome.table.table] : [])),
      ),
      fingerprint: collector.fingerprint(),
      baselineAt: pair?.createdAt,
      baselineIds: pair?.ids,
      keysToDraw,
      plan: (drawn) => {
        const rows = plan(drawn);
        return {
          changes: [...rows.changes.map((one) => one.change), ...writtenFiles.flatMap(fileChange)],
          source: [...rows.source.map(imageChange), ...this.#fileEdits(files, chosen, 'source')],
          destination: [...rows.destination.map(imageChange), ...this.#fileEdits(files, chosen, 'destination')],
          pairs: rows.pairs,
        };
      },
    };
  }

  /** Rows that follow their source down without anybody asking for them one by one. */
  #isFollowing({ table, decision }: RowOutcome): boolean {
    if (this.comparison.merge.direction === 'up') return false;
    if (table.rules.class === 'collected') return true;
    return decision.is === 'updated' && decision.cells.every((cell) => cell.is === 'taken' && cell.follows);
  }

  /** A row by which its item is found: as the source knows it, where it knows it. */
  #rowOf({ table, raw }: RowOutcome): Record<string, ByteString | null> {
    const values = raw.source ?? raw.baseSource ?? raw.destination ?? [];
    return Object.fromEntries(table.columns.map((name, i) => [name, values[i] ?? null]));
  }

  #itemOf(outcome: RowOutcome): string {
    const label = profileTable(outcome.table.table);
    const isOwn = !outcome.raw.source && !outcome.raw.baseSource;
    const owner = this.#collector.ownerOf(label, outcome.sourceKey, this.#rowOf(outcome));
    const id = isOwn ? `own ${owner.id}` : owner.id;
    if (!this.#selectable.has(id)) this.#selectable.set(id, { id, kind: owner.kind, part: label, path: undefined });
    return id;
  }

  /** Who last changed a thing and when, where its own row says so. */
  #noteStamps(outcome: RowOutcome): void {
    const id = this.#itemOf(outcome);
    const changed = itemForTable(this.destination.profile, profileTable(outcome.table.table))?.changed;
    if (!changed) return;
    const row = this.#rowOf(outcome);
    const said = (column: string | undefined): string | undefined => {
      const value = column === undefined ? undefined : row[column];
      return value === null || value === undefined ? undefined : toText(value);
    };
    const at = said(changed.at);
    this.#selectable.set(id, {
      ...(this.#selectable.get(id) as Selectable),
      changedBy: said(changed.by),
      changedAt: at === undefined ? undefined : timeOf(at),
    });
  }

  /** How a person calls a collision: the item, the row where it is a part of one, and the field. */
  #collisionName(outcome: RowOutcome, column: number | undefined): string {
    const label = profileTable(outcome.table.table);
    const owner = this.#collector.ownerOf(label, outcome.sourceKey, this.#rowOf(outcome));
    const row = owner.isOwner ? '' : `/${label} ${outcome.sourceKey.map((one) => toText(one ?? '')).join(' ')}`;
    return `${owner.id}${row}${column === undefined ? '' : `/${outcome.table.columns[column]}`}`;
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

  /** People's wishes by the names that the core gives to collisions. */
  #allSettlements(): Map<string, Settlement> {
    const found = new Map<string, Settlement>();
    if (Object.keys(this.wish.wishes.settlements).length === 0) return found;
    for (const outcome of this.comparison.rows.outcomes) {
      const at = `${outcome.table.id} ${JSON.stringify(outcome.sourceKey)}`;
      const whole = this.#wished(this.#collisionName(outcome, undefined));
      if (whole) found.set(at, whole);
      for (const [i, name] of outcome.table.columns.entries()) {
        const wished = this.#wished(this.#collisionName(outcome, i));
        if (wished) found.set(`${at} ${name}`, wished);
      }
    }
    return found;
  }

  #addRows(settled: Settled, plan: MergePlan): void {
    const written = new Set(settled.written);
    const changes = new Map<RowOutcome, RowChange>();
    for (const { change, outcome } of plan.changes) changes.set(outcome, change);
    const collisions = new Map<RowOutcome, Collision[]>();
    for (const one of settled.collisions) collisions.set(one.outcome, [...(collisions.get(one.outcome) ?? []), one]);
    const parts = this.#collector.parts;
    for (const outcome of this.comparison.rows.outcomes) {
      const { decision, table } = outcome;
      if (decision.is === 'agreed' || decision.is === 'untouched') continue;
      const label = profileTable(table.table);
      if (this.#isFollowing(outcome)) {
        const counts = parts.get(label) ?? {
          name: label,
          type: 'table' as const,
          inserted: 0,
          updated: 0,
          deleted: 0,
          bytes: 0,
        };
        if (decision.is === 'inserted') counts.inserted++;
        else if (decision.is === 'deleted') counts.deleted++;
        else counts.updated++;
        parts.set(label, counts);
        continue;
      }
      const own = collisions.get(outcome) ?? [];
      // A row that comes where another one moves away is new, though it is written over that one.
      const planned = decision.is === 'inserted' ? undefined : changes.get(outcome);
      const change = planned ?? asChange(outcome);
      const whole = own.find((one) => one.column === undefined);
      const standing: Standing = {
        outcome: !written.has(outcome)
          ? 'left-out'
          : own.some((one) => !one.settled)
            ? 'needs-you'
            : whole?.settled?.take === 'destination' || !changes.has(outcome)
              ? 'kept'
              : 'written',
        fields: fieldsOf(
          outcome,
          planned ?? (changes.has(outcome) ? change : undefined),
          (column) => this.#collisionName(outcome, column),
          own,
        ),
        collisions: own.map((one) => this.#itemCollision(one)),
        reason: whole ? collisionWords(whole, this.destination.path) : this.#numberWords(outcome),
      };
      const overwrites =
        (decision.is === 'inserted' || decision.is === 'deleted') && decision.overwrites
          ? true
          : decision.is === 'updated' && decision.cells.some((cell) => cell.is === 'taken' && cell.overwrites);
      this.#collector.addRow(
        label,
        hashed(change, table),
        this.#rowOf(outcome),
        overwrites,
        standing,
        outcome.sourceKey,
      );
    }
  }

  /** Notes of each thing that changes on the destination what refers to it there. */
  async #noteUses(): Promise<void> {
    const keys = new Map<string, Map<string, ByteString[]>>();
    const items = new Map<string, string>();
    for (const { table, sourceKey, key, sides, decision, ...outcome } of this.comparison.rows.outcomes) {
      const [own] = key;
      if (!sides.destination || decision.is === 'untouched' || decision.is === 'agreed' || typeof own !== 'string')
        continue;
      const row = { table, sourceKey, key, sides, decision, ...outcome };
      const owner = this.#collector.ownerOf(profileTable(table.table), sourceKey, this.#rowOf(row));
      if (!owner.isOwner || !this.#collector.items.has(owner.id)) continue;
      const tables = keys.get(table.database) ?? new Map<string, ByteString[]>();
      keys.set(table.database, tables);
      const known = tables.get(table.table);
      if (known) known.push(own);
      else tables.set(table.table, [own]);
      items.set(`${table.table} ${own}`, owner.id);
    }
    for (const [database, wanted] of keys)
      for (const { of, by, rows } of await usesOf(this.destination, database, wanted)) {
        const item = this.#collector.items.get(items.get(`${of.table} ${of.key}`) ?? '');
        if (item) item.usedBy = [...item.usedBy, amountOfTable(this.destination.profile, by, rows)];
      }
  }

  /** Says when a row goes by another number on the destination. */
  #numberWords({ table, key, sourceKey, decision }: RowOutcome): string {
    if (decision.is !== 'inserted' || !table.drawsKeys || !isFresh(key[0])) return '';
    const name = this.destination.path.split('/')[1] ?? this.destination.path;
    return `It gets a number of its own: on ${name}, ${toText(sourceKey[0] ?? '')} stands for something else.`;
  }

  #itemCollision(one: Collision): ItemCollision {
    const { settled } = one;
    return {
      id: this.#collisionName(one.outcome, one.column),
      words: collisionWords(one, this.destination.path),
      field: one.column === undefined ? null : (one.outcome.table.columns[one.column] ?? null),
      allowed: one.allowed,
      settled: settled
        ? { take: settled.take, value: settled.take === 'edited' ? shownValue(settled.value) : null }
        : null,
    };
  }

  #selectableFile({ root, path, area }: FileOutcome): Selectable {
    const { id, kind, title } = this.#collector.fileItem(root, path);
    const known = this.#selectable.get(id) ?? { id, kind, part: area, path: title };
    this.#selectable.set(id, known);
    return known;
  }

  #isWritten(file: SettledFile, chosen: (id: string) => boolean): boolean {
    const { decision } = file.outcome;
    if (decision.is === 'agreed' || decision.is === 'own') return false;
    if (decision.is === 'taken' && decision.follows) return true;
    return chosen(this.#selectableFile(file.outcome).id) && file.settled !== 'destination';
  }

  #addFile(file: SettledFile, chosen: (id: string) => boolean): void {
    const { outcome, collides, settled, after } = file;
    if (outcome.decision.is === 'agreed' || outcome.decision.is === 'own') return;
    if (outcome.decision.is === 'taken' && outcome.decision.follows) {
      this.#countFile(outcome);
      return;
    }
    const { id } = this.#selectableFile(outcome);
    const { root, path, sides, decision } = outcome;
    const change: FileChange = { part: 'file', root, path, before: sides.destination, after: after ?? sides.source };
    const words = `Both ends changed ${toText(path)}.`;
    this.#collector.addFile(outcome.area, change, decision.is === 'taken' && decision.overwrites, {
      outcome: !chosen(id)
        ? 'left-out'
        : collides && !settled
          ? 'needs-you'
          : settled === 'destination'
            ? 'kept'
            : 'written',
      fields: [],
      collisions: collides
        ? [
            {
              id,
              words,
              field: null,
              allowed: ['source', 'destination'],
              settled: settled ? { take: settled, value: null } : null,
            },
          ]
        : [],
      reason:
        settled === 'destination'
          ? words
          : decision.is === 'merged'
            ? 'Both ends changed it at different lines; both changes are kept.'
            : '',
    });
  }

  #countFile({ area, sides }: FileOutcome): void {
    const { parts } = this.#collector;
    const counts = parts.get(area) ?? {
      name: area,
      type: 'area' as const,
      inserted: 0,
      updated: 0,
      deleted: 0,
      bytes: 0,
    };
    if (sides.destination.type === 'absent') counts.inserted++;
    else if (sides.source.type === 'absent') counts.deleted++;
    else counts.updated++;
    if (sides.source.type === 'file') counts.bytes += sides.source.size;
    parts.set(area, counts);
  }

  /** What a baseline's image of the files becomes: the source's state for everything that was treated. */
  #fileEdits(files: readonly SettledFile[], chosen: (id: string) => boolean, end: Side): FileChange[] {
    return files.flatMap((file): FileChange[] => {
      const { outcome, settled } = file;
      const { root, path, sides } = outcome;
      if (outcome.decision.is === 'own' || (outcome.decision.is === 'taken' && outcome.decision.follows)) return [];
      if (outcome.decision.is !== 'agreed' && !chosen(this.#selectableFile(outcome).id)) return [];
      const after = end === 'source' || settled !== 'destination' ? sides.source : sides.destination;
      return [{ part: 'file', root, path, before: { type: 'absent' }, after }];
    });
  }

  #checks(): Check[] {
    const checks: Check[] = [];
    for (const note of this.comparison.notes) {
      if (note.type === 'unclassified')
        checks.push({
          name: 'unclassified tables',
          state: 'failed',
          message: `${note.table} changed on ${this.from.path} (${note.rows} rows), and nobody has said what class it is.`,
          remedy: `Give ${note.table} a class in the profile.`,
        });
      if (note.type === 'schema')
        checks.push({
          name: 'schema',
          state: 'failed',
          message: `The schemas differ: ${note.message}.`,
          remedy: 'Bring both ends to the same schema first.',
        });
    }
    const masks = this.comparison.notes.flatMap((note) => (note.type === 'mask' ? [note.broken] : []));
    if (masks.length > 0) checks.push(maskCheck(masks));
    for (const note of this.comparison.notes)
      if (note.type === 'reference')
        checks.push({
          name: 'references',
          state: 'failed',
          message: `The profile says that ${note.from} refers to ${note.to}, and ${this.destination.path} has no ${note.missing}.`,
          remedy: 'Correct the reference in the profile, or take it out.',
        });
    if (!checks.some((check) => check.name === 'schema'))
      checks.push({ name: 'schema', state: 'passed', message: 'Both ends have the same tables and columns.' });
    const { only, except, settlements } = this.wish.wishes;
    const items = [...this.#selectable.values()];
    const nothing = [...only, ...except].filter((selector) => !items.some((one) => isNamed(selector, one)));
    if (nothing.length > 0)
      checks.push({
        name: 'choice',
        state: 'failed',
        message: `Nothing that changed is named by ${nothing.join(', ')}.`,
        remedy:
          'List what changed, and name it by its id: KIND:KEY, KIND:*, table:NAME, area:NAME, path:PATTERN, by:PERSON or since:TIME.',
      });
    const colliding = [...this.#collector.items.values()].flatMap((item) => [
      item.id,
      ...item.collisions.map((one) => one.id),
    ]);
    const idle = Object.keys(settlements).filter((name) => !colliding.includes(name) || !this.#collides(name));
    if (idle.length > 0)
      checks.push({
        name: 'decisions',
        state: 'failed',
        message: `Nothing collides in ${idle.join(', ')}.`,
        remedy: 'Take the decision back, or settle one of the collisions that the forecast lists.',
      });
    return checks;
  }

  #collides(name: string): boolean {
    return [...this.#collector.items.values()].some((item) =>
      item.collisions.some((one) => one.id === name || one.id.startsWith(`${name}/`)),
    );
  }

  #collected(): Amounts {
    return this.comparison.notes.flatMap((note) =>
      note.type === 'collected' && note.more > 0
        ? [amountOfTable(this.destination.profile, note.table, note.more)]
        : [],
    );
  }

  #news(): number {
    const items = new Set<string>();
    for (const { table, key, values, isNews } of this.comparison.rows.ownChanges) {
      if (!isNews || table.rules.class === 'collected') continue;
      const row = Object.fromEntries(table.columns.map((name, i) => [name, values?.[i] ?? null]));
      items.add(this.#collector.ownerOf(profileTable(table.table), key, row).id);
    }
    for (const { root, path, decision } of this.comparison.files)
      if (decision.is === 'own' || decision.is === 'colliding') items.add(this.#collector.fileItem(root, path).id);
    return items.size;
  }

  /** What the copy made or changed itself, and keeps. */
  #ownWork(): Amounts {
    const items = new Map<string, string>();
    for (const { table, key, values, isNews } of this.comparison.rows.ownChanges) {
      if (!isNews || table.rules.class === 'collected') continue;
      const row = Object.fromEntries(table.columns.map((name, i) => [name, values?.[i] ?? null]));
      const { id, kind } = this.#collector.ownerOf(profileTable(table.table), key, row);
      const change = this.#collector.items.get(id);
      if (change?.outcome !== 'written' || change.change !== 'deleted') items.set(id, kind);
    }
    for (const { root, path, decision } of this.comparison.files) {
      const { id, kind } = this.#collector.fileItem(root, path);
      if (decision.is === 'own') items.set(id, kind);
    }
    const counts = new Map<string, number>();
    for (const kind of items.values()) counts.set(kind, (counts.get(kind) ?? 0) + 1);
    return [...counts].map(([kind, count]) => ({ count, kind, plural: pluralOf(this.destination.profile, kind) }));
  }

  /** What visitors made or changed, on its way down. */
  #followed(plan: MergePlan): Amounts {
    const { profile } = this.destination;
    const rows = new Map<string, number>();
    const areas = new Map<string, number>();
    let counts = 0;
    for (const { change, outcome } of plan.changes) {
      if (!this.#isFollowing(outcome)) continue;
      const table = profileTable(change.table);
      if (outcome.table.rules.class === 'collected') rows.set(table, (rows.get(table) ?? 0) + 1);
      else counts++;
    }
    for (const { area, decision } of this.comparison.files)
      if (decision.is === 'taken' && decision.follows) areas.set(area, (areas.get(area) ?? 0) + 1);
    const all = [...rows].map(([table, count]) => amountOfTable(profile, table, count));
    const titled = all.filter((one) => !one.kind.startsWith('row of '));
    const files = [...areas].map(([area, count]) => ({ count, kind: `file of ${area}`, plural: `files of ${area}` }));
    const changed = counts > 0 ? [{ count: counts, kind: 'count', plural: 'counts' }] : [];
    return [...(titled.length > 0 ? titled : all), ...files, ...changed];
  }
}

const fileChange = ({ outcome, after }: SettledFile): FileChange[] => {
  const { root, path, sides } = outcome;
  return after ? [{ part: 'file', root, path, before: sides.destination, after }] : [];
};

/** An image's new row as a change: what a change set of a baseline holds. */
function imageChange({ table, key, values }: ImageEdit): RowChange {
  const on = { part: 'row', database: table.database, table: table.table, key } as const;
  return values
    ? { ...on, op: 'insert', row: Object.fromEntries(table.columns.map((name, i) => [name, values[i] ?? null])) }
    : { ...on, op: 'delete', row: {} };
}

/** What a row would become if it went as the source has it; for what is not written. */
function asChange({ table, key, sides }: RowOutcome): RowChange {
  const on = { part: 'row', database: table.database, table: table.table, key } as const;
  const named = (row: Values) => Object.fromEntries(table.columns.map((name, i) => [name, row[i] ?? null]));
  const { source, destination } = sides;
  if (source && !destination) return { ...on, op: 'insert', row: named(source) };
  if (!source) return { ...on, op: 'delete', row: named(destination ?? []) };
  const cells = table.columns.flatMap((name, i) =>
    isSame(source[i], destination?.[i])
      ? []
      : [[name, { before: destination?.[i] ?? null, after: source[i] ?? null }] as const],
  );
  return { ...on, op: 'update', cells: Object.fromEntries(cells) };
}

/** A change without the cells that visitors write: they are no part of what a forecast stands for. */
function hashed(change: RowChange, table: MergeTable): RowChange {
  if (change.op === 'update') return change;
  const authored = Object.entries(change.row).filter(
    ([name]) => table.rules.columns.find((column) => column.name === name)?.class === 'authored',
  );
  return { ...change, row: Object.fromEntries(authored) };
}

const MOST_FIELDS = 24;

function fieldsOf(
  { table, sides, raw, decision }: RowOutcome,
  change: RowChange | undefined,
  nameOf: (column: number) => string,
  collisions: readonly Collision[],
): ItemField[] {
  const { source, destination, baseDestination } = sides;
  const shown =
    decision.is === 'updated'
      ? decision.cells.filter((cell) => cell.is !== 'agreed').map((cell) => cell.column)
      : table.columns.map((_name, i) => i).filter((i) => !isSame(source?.[i], destination?.[i]));
  return shown.slice(0, MOST_FIELDS).map((i) => {
    const name = table.columns[i] as string;
    const after = !change
      ? destination?.[i]
      : change.op === 'insert'
        ? change.row[name]
        : change.op === 'delete'
          ? null
          : name in change.cells
            ? change.cells[name]?.after
            : destination?.[i];
    return {
      name,
      base: shownValue(baseDestination?.[i] ?? raw.baseSource?.[i]),
      // As it stands there: a reference may have another number on the other side.
      source: shownValue(raw.source?.[i]),
      before: shownValue(destination?.[i]),
      after: change && isFresh(source?.[i]) ? 'a new number' : shownValue(after),
      collision: collisions.some((one) => one.column === i) ? nameOf(i) : null,
    };
  });
}

/** Tries what would be written against the destination's columns, constraints and unique values. */
async function checkFit(destination: Environment, changes: readonly Change[]): Promise<Check> {
  const rewriter = rewriterOf(destination);
  const found: Misfit[] = [];
  for (const { name, login } of destination.databases) {
    const rows = changes.filter((change): change is RowChange => change.part === 'row' && change.database === name);
    found.push(...(await misfitsOfChanges(login, rows, rewriter)).found);
  }
  return fitCheck(
    found,
    `Everything that is written fits ${destination.path}.`,
    `Correct it where it comes from, or make room for it on ${destination.path}.`,
  );
}

/** @param remedy what to do when something was found */
export function fitCheck(found: readonly Misfit[], passed: string, remedy: string): Check {
  if (found.length === 0) return { name: 'values', state: 'passed', message: passed };
  const named = found.slice(0, SHOWN_MISFITS).map(misfitText).join('; ');
  const more = found.length > SHOWN_MISFITS ? `; and ${found.length - SHOWN_MISFITS} more` : '';
  return { name: 'values', state: 'failed', message: `What would not fit: ${named}${more}.`, remedy };
}

const SHOWN_MISFITS = 5;

function strayCheck(found: readonly StrayAddress[]): Check {
  const where = found
    .slice(0, SHOWN_MISFITS)
    .map(
      ({ host, table, key, column }) =>
        `${host} in ${profileTable(table)} ${key.map((one) => toText(one ?? '')).join(' ')}, ${column}`,
    );
  return {
    name: 'addresses',
    state: 'warning',
    message: `${found.length === 1 ? 'One value holds' : `${found.length} values hold`} the address of another environment, which nobody rewrites: ${where.join('; ')}${found.length > SHOWN_MISFITS ? '; and more' : ''}.`,
    remedy: 'Correct them where they come from.',
  };
}

function amountOfTable(
  profile: Profile | undefined,
  table: string,
  count: number,
): { count: number; kind: string; plural: string } {
  const item = (profile?.items ?? []).find((one) => 'table' in one && one.table === table);
  const kind = item?.kind ?? `row of ${table}`;
  return { count, kind, plural: item ? pluralOf(profile, kind) : `rows of ${table}` };
}
