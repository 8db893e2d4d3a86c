import type { Profile } from '@tessarion/core';
import { EngineError, type Environment, HashMemory, layout, type SnapshotLibrary, type Work } from '@tessarion/engine';
import { type EnvironmentRecord, toEngine } from '../fleet/environments.js';
import { markOf } from '../fleet/mark.js';
import { profileOfSite } from '../fleet/profiles.js';
import { publishRoutes } from '../front/routes.js';
import { publishEvent } from '../ground/events.js';
import { libraryOf } from '../stored/snapshots.js';
import { dataOf, type TransferData } from '../transfers/data.js';
import { inputOf } from '../transfers/inputs.js';
import type { Installation } from '../transfers/installation.js';
import type { Durability, TransferRecord } from '../transfers/transfers.js';

const PROGRESS_MS = 250;

/** One running transfer, as its steps meet it. */
export class TransferContext {
  /** What later steps and a recovery need to know; kept with {@link remember}. */
  data: TransferData;
  readonly work: { -readonly [part in keyof Work]: Work[part] };
  readonly #counts = { files: 0, rows: 0, bytes: 0 };
  totalBytes: number | null = null;
  #step = '';
  #lastProgress = 0;

  constructor(
    readonly installation: Installation,
    readonly record: TransferRecord,
    /** Fences writes of a worker that lost its lock. */
    readonly epoch: number,
    signal: AbortSignal,
  ) {
    // Told before anything is done, and not half-way.
    inputOf(record, record.kind);
    this.data = dataOf(record);
    this.work = {
      signal,
      count: (done) => {
        this.#counts.files += done.files ?? 0;
        this.#counts.rows += done.rows ?? 0;
        this.#counts.bytes += done.bytes ?? 0;
        void this.#report();
      },
    };
  }

  get counts(): { files: number; rows: number; bytes: number } {
    return { ...this.#counts };
  }

  /** What an earlier step noted. @throws {Error} where none did */
  noted<K extends keyof TransferData>(name: K): NonNullable<TransferData[K]> {
    const found = this.data[name];
    if (found === undefined || found === null) throw new Error(`transfer ${this.record.id} has not noted ${name}`);
    return found;
  }

  /** Notes facts for later steps and a recovery. @param durability see {@link Durability} */
  async remember(facts: Partial<TransferData>, durability: Durability = 'forced'): Promise<void> {
    this.data = { ...this.data, ...facts };
    await this.installation.transfers.note(this.installation.records, this.record.id, this.data, durability);
  }

  async say(text: string): Promise<void> {
    await this.installation.transfers.say(this.installation.records, this.record.id, text);
  }

  /** Records that a step begins and the one before it is done. */
  async enter(
    name: string,
    step: { position: number; detailOfFormer: string | null; isFirst: boolean },
    durability: Durability,
  ): Promise<void> {
    this.#step = name;
    this.#lastProgress = Date.now();
    await this.installation.transfers.beginStep(
      this.installation.records,
      this.record,
      step,
      this.#progress,
      durability,
    );
  }

  get #progress(): NonNullable<TransferRecord['progress']> {
    return { step: this.#step, ...this.#counts, totalBytes: this.totalBytes };
  }

  async #report(): Promise<void> {
    if (Date.now() - this.#lastProgress < PROGRESS_MS) return;
    const { installation, record } = this;
    this.#lastProgress = Date.now();
    try {
      await installation.records.transaction(async (trx) => {
        // Progress is no promise: it need not wait for the disk.
        await trx.raw('SET LOCAL synchronous_commit = off');
        const progress = this.#progress;
        await installation.transfers.update(trx, record.id, { progress });
        const { id: transfer, site, onto_path: onto } = record;
        await publishEvent(trx, { type: 'transfer', transfer, site, onto, state: 'running', progress });
      });
    } catch (error) {
      installation.log.warn({ transfer: record.id, err: error }, 'progress not recorded');
    }
  }

  environmentRecord(path: string): Promise<EnvironmentRecord> {
    return this.installation.environments.get(this.installation.records, path);
  }

  async environment(path: string): Promise<Environment> {
    const record = await this.environmentRecord(path);
    return toEngine(record, await this.profile(record.site));
  }

  async profile(site: string): Promise<Profile | undefined> {
    return (await profileOfSite(this.installation.records, site))?.profile;
  }

  /** Names and versions of all that a site's profile is composed of; empty without one. */
  async edition(site: string): Promise<string> {
    return (await profileOfSite(this.installation.records, site))?.edition ?? '';
  }

  async profileVersion(site: string): Promise<{ name: string; version: number } | null> {
    const found = await profileOfSite(this.installation.records, site);
    return found ? { name: found.name, version: found.version } : null;
  }

  library(): SnapshotLibrary {
    return libraryOf(this.installation.folder, this.record.site);
  }

  /** Where this transfer takes down a baseline. */
  get spoolFolder(): string {
    return this.installation.folder.spool(this.record.site, this.record.id);
  }

  memory(path: string): Promise<HashMemory> {
    return HashMemory.open(this.installation.folder.memory(path));
  }

  /** A keyed hash for masks: the same person becomes the same invented person everywhere in a site. */
  get maskKey(): Buffer {
    return this.installation.folder.keys.derive(`mask ${this.record.site}`);
  }

  /**
   * Makes sure, right before a write that cannot be taken back, that this worker is still the one writer.
   *
   * @throws {EngineError} `fence-lost`
   */
  async checkFence(environment: Environment): Promise<void> {
    this.work.signal.throwIfAborted();
    const { transfers, records } = this.installation;
    if (this.data.pastSwitch !== true && (await transfers.isAskedToStop(records, this.record.id)))
      throw new EngineError('stopped', 'It was stopped.', 'Start it again when it suits.');
    const row = await this.installation.records('environment').where({ path: environment.path }).first('epoch');
    const written = await environment.server.readFile(layout.fence(environment.folder)).then(
      (file) => Number.parseInt(file.toString(), 10),
      () => this.epoch,
    );
    if (row?.epoch !== this.epoch || written > this.epoch)
      throw new EngineError(
        'fence-lost',
        `Another worker took over ${environment.path}.`,
        'Nothing is to be done; the other worker goes on.',
      );
  }

  /** Leaves the epoch on the server, so that an older worker can see that it is out. */
  async raiseFence(environment: Environment): Promise<void> {
    await environment.server.makeFolder(environment.folder);
    // A live site is nobody's to remove, whatever the records say of it.
    const fence = environment.kind === 'live' ? `${this.epoch}` : `${this.epoch} ${markOf(this.installation.folder)}`;
    await environment.server.writeFile(layout.fence(environment.folder), Buffer.from(fence), 0o600);
  }

  async publishRoutes(): Promise<void> {
    await publishRoutes(this.installation);
  }
}
