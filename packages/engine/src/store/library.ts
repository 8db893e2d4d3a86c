import { type Change, SnapshotManifest } from '@tessarion/core';
import { EngineError, messageOf } from '../ports/errors.js';
import type { ObjectStore } from '../ports/objects.js';
import { readChanges, writeChanges } from './change-set.js';
import { type Collected, PackStore } from './pack-store.js';
import { walkTree } from './read-tree.js';
import { blockList } from './row-image.js';
import { openBytes, sealBytes } from './sealed.js';

/** A blob that a snapshot names and that is gone or damaged, with what it held. */
export interface Damage {
  readonly hash: string;
  readonly holds: string;
  readonly message: string;
}

const MANIFESTS = 'manifests';
const MANIFEST = '.manifest';
const manifestName = (id: string): string => `${MANIFESTS}/${id}${MANIFEST}`;
const CHANGES = 'changes';
const CHANGE_SET = '.changes';
const changesName = (id: string): string => `${CHANGES}/${id}${CHANGE_SET}`;
const idsIn = (names: readonly string[], end: string): string[] =>
  names.filter((name) => name.endsWith(end)).map((name) => name.slice(0, -end.length));
const purposeOf = (id: string): string => `manifest ${id}`;

/** The snapshots and baselines of one site: manifests, and the blobs they name. */
export class SnapshotLibrary {
  readonly store: PackStore;

  /** @param key 32 bytes that everything in it is encrypted with */
  constructor(
    readonly objects: ObjectStore,
    readonly key: Buffer,
  ) {
    this.store = new PackStore(objects, key);
  }

  /** Stores a manifest; its blobs must be in the store already. */
  async save(manifest: SnapshotManifest): Promise<void> {
    const content = Buffer.from(`${JSON.stringify(manifest, null, 1)}\n`);
    await this.objects.put(manifestName(manifest.id), sealBytes(this.key, purposeOf(manifest.id), content));
  }

  async load(id: string): Promise<SnapshotManifest> {
    try {
      const stored = await this.objects.get(manifestName(id));
      if (!stored) throw new Error('it is not there');
      const content = openBytes(this.key, purposeOf(id), stored);
      if (!content) throw new Error('its seal does not hold');
      return SnapshotManifest.parse(JSON.parse(content.toString()));
    } catch (error) {
      throw new EngineError(
        'blob-missing',
        `The manifest of snapshot ${id} cannot be read: ${messageOf(error)}`,
        'Restore the store from a backup, or take the snapshot again.',
        { cause: error },
      );
    }
  }

  /** Seals the manifests of a former version, which had no seal; to be done once, since whoever writes one could say so. */
  async sealFormer(): Promise<void> {
    for (const name of await this.objects.list(MANIFESTS)) {
      if (!name.endsWith('.json')) continue;
      const former = `${MANIFESTS}/${name}`;
      const stored = await this.objects.get(former);
      if (!stored) continue;
      await this.save(SnapshotManifest.parse(JSON.parse(stored.toString())));
      await this.objects.remove(former);
    }
  }

  /** Joins what many transfers left in small packs. @returns how many packs there are fewer */
  compact(): Promise<number> {
    return this.store.compact();
  }

  async manifests(): Promise<string[]> {
    return idsIn(await this.objects.list(MANIFESTS), MANIFEST);
  }

  /** Every blob that a manifest names, with what it holds. */
  async *blobsOf(manifest: SnapshotManifest): AsyncGenerator<{ hash: string; holds: string }> {
    for (const database of manifest.databases) {
      yield { hash: database.schemaBefore, holds: `schema of database ${database.name}` };
      yield { hash: database.schemaAfter, holds: `schema of database ${database.name}` };
      for (const table of database.tables) {
        if (table.blocks === undefined) continue;
        yield { hash: table.blocks, holds: `list of rows of ${table.schema}.${table.name}` };
        for (const block of await blockList(this.store, table))
          yield { hash: block.hash, holds: `rows of ${table.schema}.${table.name}` };
      }
    }
    for (const root of manifest.roots) {
      yield { hash: root.tree, holds: `folder listing of root ${root.name}` };
      for await (const { path, entry } of walkTree(this.store, root)) {
        if (entry.type === 'folder') yield { hash: entry.tree, holds: `folder listing ${path}` };
        if (entry.type === 'file') for (const hash of entry.pieces) yield { hash, holds: `file ${path}` };
      }
    }
  }

  /** Reads every blob of a snapshot again. @returns what is damaged; empty when it is whole */
  async verify(manifest: SnapshotManifest): Promise<Damage[]> {
    this.store.refresh();
    const damaged: Damage[] = [];
    const seen = new Set<string>();
    try {
      for await (const { hash, holds } of this.blobsOf(manifest)) {
        if (seen.has(hash)) continue;
        seen.add(hash);
        try {
          await this.store.read(hash);
        } catch (error) {
          damaged.push({ hash, holds, message: messageOf(error) });
        }
      }
    } catch (error) {
      // A damaged listing hides what lies below it; the listing itself has been named above or is named here.
      if (damaged.length === 0) damaged.push({ hash: '', holds: 'a listing', message: messageOf(error) });
    }
    return damaged;
  }

  /** Stores a change set. */
  async saveChanges(id: string, changes: AsyncIterable<Change> | Iterable<Change>): Promise<void> {
    await writeChanges(this.objects, changesName(id), this.key, changes);
  }

  /** @throws {EngineError} `blob-missing`, `blob-damaged` */
  readChanges(id: string): AsyncGenerator<Change> {
    return readChanges(this.objects, changesName(id), this.key);
  }

  async #blobsOfChanges(keep: Set<string>): Promise<void> {
    for (const id of idsIn(await this.objects.list(CHANGES), CHANGE_SET)) {
      for await (const change of this.readChanges(id)) {
        if (change.part !== 'file') continue;
        for (const state of [change.before, change.after])
          if (state.type === 'file') for (const hash of state.pieces) keep.add(hash);
      }
    }
  }

  /** Removes a manifest; its blobs are freed with the next one that is removed by {@link remove}. */
  async discard(id: string): Promise<void> {
    await this.objects.remove(manifestName(id));
  }

  /**
   * Removes a manifest and frees the blobs that no other manifest names. As long as a list of another one is damaged, nobody
   * knows what it names, and nothing is freed.
   */
  async remove(id: string, sparedSince: Date): Promise<Collected> {
    await this.discard(id);
    this.store.refresh();
    const keep = new Set<string>();
    try {
      for (const other of await this.manifests())
        for await (const { hash } of this.blobsOf(await this.load(other))) keep.add(hash);
      await this.#blobsOfChanges(keep);
    } catch (error) {
      if (error instanceof EngineError && ['blob-missing', 'blob-damaged'].includes(error.code))
        return { blobs: 0, bytes: 0 };
      throw error;
    }
    return this.store.collect(keep, sparedSince);
  }
}
