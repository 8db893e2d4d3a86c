import type { Failure } from '@tessarion/contract';
import { EngineError } from '@tessarion/engine';
import { toEngine } from '../fleet/environments.js';
import { failureOf } from '../ground/problems.js';
import { enqueue, findUnqueued, wakeFirst } from '../ground/queue.js';
import { packBaseline } from '../stored/packing.js';
import { baselinesOf, mayUseStore, spoolsToPack } from '../stored/snapshots.js';
import type { Installation } from '../transfers/installation.js';
import type { TransferRecord } from '../transfers/transfers.js';
import { TransferContext } from './context.js';
import { endTransfer } from './end-transfer.js';
import { isAway, Patience } from './patience.js';
import type { Procedure, ProcedureStep } from './procedure.js';
import { procedureFor } from './procedures/index.js';
import type { WorkerIdentity } from './worker-identity.js';

const CLAIM_LOCK = 0x7450;

interface Claim {
  readonly record: TransferRecord;
  /** Another worker had begun it. */
  readonly resumed: boolean;
}

/** Nothing is said to be done that a loss of power could still undo. */
async function flushEnds({ installation, record }: TransferContext): Promise<void> {
  const found = await installation.environments.find(installation.records, record.onto_path);
  if (!found) return;
  const { server, folder } = toEngine(found, undefined);
  if (await server.exists(folder)) await server.flush(folder);
}

/** Runs transfers step by step, and goes on with those whose worker died. */
export class TransferRunner {
  readonly #running = new Map<string, AbortController>();
  /** Transfers that this worker is about to claim. */
  readonly #claiming = new Set<string>();
  /** Set once this worker is told to end: what it cannot bring to an end is left to another one. */
  #isStopping = false;
  #leavesWork = false;
  /** Fires when this worker may write nothing any more. */
  readonly #lost = new AbortController();

  constructor(
    private readonly installation: Installation,
    private readonly identity: WorkerIdentity,
    /** Ends this worker, so that another one goes on with what it leaves behind. */
    private readonly giveUp: (reason: string) => void,
  ) {}

  /** Stops everything at once without cleaning up: another worker has taken over. */
  abandon(reason: string): void {
    this.#lost.abort(new EngineError('fence-lost', reason, 'Another worker goes on.'));
    for (const controller of this.#running.values()) controller.abort(this.#lost.signal.reason);
  }

  /**
   * Asks running transfers to come to an end that leaves the destination whole: put back where nothing of them is to be seen
   * yet, left unfinished otherwise, to whoever goes on with them.
   */
  stopAll(): void {
    this.#isStopping = true;
    for (const controller of this.#running.values())
      controller.abort(new EngineError('stopped', 'The worker was stopped.', 'Start the transfer again.'));
  }

  /** Whether something is left to be gone on with. */
  get leavesWork(): boolean {
    return this.#leavesWork;
  }

  /** Runs one transfer if it is its turn; otherwise leaves it in line. */
  async run(id: string): Promise<void> {
    const { installation } = this;
    if (this.#claiming.has(id) || this.#running.has(id)) return;
    this.#claiming.add(id);
    const controller = new AbortController();
    let claimed: Claim | undefined;
    let epoch = 0;
    try {
      claimed = await this.#claim(id);
      if (!claimed) return;
      epoch = await this.#becomeWriter(claimed.record.onto_path);
      this.#running.set(id, controller);
    } finally {
      this.#claiming.delete(id);
    }
    const { record, resumed } = claimed;
    const context = await this.#understand(record, epoch, controller.signal);
    if (!context) {
      // It stays claimed, so that it is not tried over and over; whoever comes after this worker finds it.
      this.#leavesWork = true;
      return;
    }
    const procedure = procedureFor(record);
    const watch = setInterval(() => void this.#watchStop(id, controller), 500);
    try {
      if (resumed) await this.#resume(context, procedure);
      else await this.#begin(context, procedure);
    } catch (error) {
      installation.log.error({ transfer: id, err: error }, 'transfer could not be brought to an end');
      // Its record says that it runs: nobody else goes on with it as long as this worker lives.
      this.giveUp(`transfer ${id} could not be brought to an end`);
    } finally {
      clearInterval(watch);
      this.#running.delete(id);
      if (!this.#lost.signal.aborted) {
        await this.identity.stopWriting(record.onto_path);
        await this.#wakeWaiting(record);
      }
    }
  }

  /** Reads what a transfer was given and what its steps noted; says so where another version meant something else by it. */
  async #understand(record: TransferRecord, epoch: number, signal: AbortSignal): Promise<TransferContext | undefined> {
    const { installation } = this;
    try {
      return new TransferContext(installation, record, epoch, signal);
    } catch (error) {
      const text = `It was begun by another version, which has to go on with it: ${failureOf(error).message}`;
      installation.log.error({ transfer: record.id, err: error }, 'transfer is not understood');
      await installation.transfers.say(installation.records, record.id, text);
      return undefined;
    }
  }

  async #claim(id: string): Promise<Claim | undefined> {
    const { installation } = this;
    return installation.records.transaction(async (trx) => {
      await trx.raw('SELECT pg_advisory_xact_lock(?, 0)', [CLAIM_LOCK]);
      // Held until the claim is made, so that a stop asked for in this moment comes before it or after it.
      await trx('transfer').where({ id }).forUpdate().first('id');
      const record = await installation.transfers.get(trx, id);
      if (record.state !== 'waiting' && record.worker !== null) return undefined;
      if (!['waiting', 'running', 'stopping'].includes(record.state)) return undefined;
      const places = [record.onto_path, ...(record.from_path === null ? [] : [record.from_path])];
      const busy = await trx('transfer')
        .whereNot({ id })
        .where((q) =>
          q
            .whereIn('state', ['running', 'stopping'])
            .andWhere((r) => r.whereIn('onto_path', places).orWhere('from_path', record.onto_path)),
        )
        .orWhere((q) =>
          q
            .where({ state: 'waiting' })
            // What was accepted earlier reads what there was then, and writes before it is read.
            .andWhere((r) => r.whereIn('onto_path', places).orWhere('from_path', record.onto_path))
            .whereNot({ id })
            .whereRaw('(created_at, id) < (?, ?)', [record.created_at, id]),
        )
        .first('id');
      // One that runs already is seen by whoever would free blobs.
      if (record.state === 'waiting' && (busy || !(await mayUseStore(trx, record.site)))) return undefined;
      const resumed = record.state !== 'waiting';
      await installation.transfers.update(trx, id, {
        state: record.state === 'stopping' ? 'stopping' : 'running',
        worker: String(this.identity.id),
        started_at: record.started_at ?? installation.now(),
      });
      return { record: { ...record, started_at: record.started_at ?? installation.now() }, resumed };
    });
  }

  /** The claim already keeps others off; the lock may lag behind a dead worker's session for a moment. */
  async #becomeWriter(environment: string): Promise<number> {
    for (;;) {
      const epoch = await this.identity.tryWrite(environment);
      if (epoch !== undefined) return epoch;
      await new Promise((resolve) => setTimeout(resolve, 200));
    }
  }

  async #begin(context: TransferContext, procedure: Procedure): Promise<void> {
    const { installation } = context;
    const { records } = installation;
    try {
      // What is packed after a copy answers is read from its files, which this transfer may touch.
      for (const { spool } of await baselinesOf(records, context.record.onto_path))
        if (spool) await packBaseline(installation, spool.id);
    } catch (error) {
      return this.#end(context, { state: 'failed', failure: failureOf(error) });
    }
    await installation.transfers.planSteps(records, context.record.id, procedure.steps);
    await this.#go(context, procedure, 0);
  }

  async #resume(context: TransferContext, procedure: Procedure): Promise<void> {
    const { installation, record } = context;
    const steps = await installation.transfers.steps(installation.records, record.id);
    const reached = steps.findLast((step) => step.state !== 'coming');
    if (!reached) return this.#begin(context, procedure);
    await context.say(`The worker ended in the step "${reached.title}"; another one takes over.`);
    const reason = context.data.putBackBecause;
    if (reason) return this.#putBack(context, procedure, reason);
    if (await procedure.mustGoForward(context, reached.name)) return this.#go(context, procedure, reached.position);
    return this.#putBack(context, procedure, {
      code: 'stopped',
      message: `The worker ended in the step "${reached.title}". Everything was put back as it was.`,
      next: 'Start it again.',
    });
  }

  async #go(context: TransferContext, procedure: Procedure, from: number): Promise<void> {
    const { installation, record } = context;
    const { records, transfers } = installation;
    let detail: string | undefined;
    for (const [position, step] of procedure.steps.entries()) {
      if (position < from) continue;
      try {
        context.work.signal.throwIfAborted();
        const isFirst = position === from;
        const durability = step.isHeld ? 'soon' : 'forced';
        await context.enter(step.name, { position, isFirst, detailOfFormer: detail ?? null }, durability);
        detail = await this.#runPatiently(context, procedure, step);
        if (position === procedure.steps.length - 1) await flushEnds(context);
      } catch (error) {
        if (this.#lost.signal.aborted) return;
        if (this.#isStopping && (await this.#mustBeLeft(context, procedure, step.name))) return;
        installation.log.warn({ transfer: record.id, step: step.name, err: error }, 'step failed');
        const detail = failureOf(error).message;
        await transfers.endStep(records, record.id, position, { state: 'failed', detail });
        return this.#putBack(context, procedure, failureOf(error));
      }
    }
    const last = procedure.steps.length - 1;
    await transfers.endStep(records, record.id, last, { state: 'done', detail: detail ?? null });
    await this.#end(context, { state: 'done', failure: null });
  }

  /**
   * Runs a step. From where a transfer can only go forward, what is away is waited for and the step run again, as after a
   * worker's death.
   */
  async #runPatiently(
    context: TransferContext,
    procedure: Procedure,
    step: ProcedureStep,
  ): Promise<string | undefined> {
    for (const patience = new Patience(); ; ) {
      try {
        return await step.run(context);
      } catch (error) {
        if (!isAway(error) || patience.isOver || !(await this.#isPastReturn(context, procedure, step, patience)))
          throw error;
        const { message } = failureOf(error);
        this.installation.log.warn({ transfer: context.record.id, step: step.name, err: error }, 'step has to wait');
        if (patience.isNew) await context.say(`"${step.title}" has to wait: ${message}`);
        await patience.wait(context.work.signal);
      }
    }
  }

  /** Asks a procedure whether it must go forward; what it has to look at may be away too. */
  async #isPastReturn(
    context: TransferContext,
    procedure: Procedure,
    step: ProcedureStep,
    patience: Patience,
  ): Promise<boolean> {
    for (;;) {
      try {
        return await procedure.mustGoForward(context, step.name);
      } catch (error) {
        if (!isAway(error) || patience.isOver) throw error;
        await patience.wait(context.work.signal);
      }
    }
  }

  async #putBack(context: TransferContext, procedure: Procedure, reason: Failure): Promise<void> {
    const isStop = reason.code === 'stopped' && (await this.#isAskedToStop(context.record.id));
    // Nobody's stop ends it half-way; whoever takes over puts back too, and does not go on.
    context.work.signal = this.#lost.signal;
    await context.remember({ putBackBecause: reason });
    const remains = await this.#putBackPatiently(context, procedure);
    if (remains === undefined) return;
    await this.#end(context, {
      state: isStop ? 'stopped' : 'failed',
      failure: isStop ? null : reason,
      remains,
    });
  }

  /** @returns whether a transfer whose worker is to end is left as it is: something of it can be seen already */
  async #mustBeLeft(context: TransferContext, procedure: Procedure, step: string): Promise<boolean> {
    // Who cannot find out leaves it to who can.
    if (!(await procedure.mustGoForward(context, step).catch(() => true))) return false;
    this.#leavesWork = true;
    context.installation.log.warn({ transfer: context.record.id, step }, 'left to another worker');
    return true;
  }

  /**
   * Puts back, and waits for what is away meanwhile, such as a database server that is started again.
   *
   * @returns what remains; undefined where it is left to another worker
   */
  async #putBackPatiently(context: TransferContext, procedure: Procedure): Promise<string[] | undefined> {
    const { installation, record } = context;
    for (const patience = new Patience(); ; ) {
      try {
        return await procedure.putBack(context);
      } catch (error) {
        if (this.#lost.signal.aborted || (error instanceof EngineError && error.code === 'fence-lost'))
          return undefined;
        const { message } = failureOf(error);
        installation.log.error({ transfer: record.id, err: error }, 'putting back failed');
        if (isAway(error) && this.#isStopping) {
          this.#leavesWork = true;
          return undefined;
        }
        if (!isAway(error) || patience.isOver) return [`Putting everything back failed: ${message}`];
        if (patience.isNew) await context.say(`Putting everything back has to wait: ${message}`);
        await patience.wait(this.#lost.signal);
      }
    }
  }

  async #end(
    context: TransferContext,
    outcome: Pick<TransferRecord, 'state' | 'failure'> & { remains?: string[] },
  ): Promise<void> {
    const { installation, record } = context;
    const remains = [...(context.data.remains ?? []), ...(outcome.remains ?? [])];
    await installation.records.transaction(async (trx) => {
      await endTransfer(trx, installation, record, { ...outcome, remains, totals: context.counts }, 'worker');
      // What was chosen to stay can be taken back by another undo.
      if (record.undo_of !== null && outcome.state === 'done' && context.data.leavesSome !== true)
        await installation.transfers.update(trx, record.undo_of, { state: 'undone', undone_by: record.id });
    });
  }

  #isAskedToStop(id: string): Promise<boolean> {
    return this.installation.transfers.isAskedToStop(this.installation.records, id);
  }

  async #watchStop(id: string, controller: AbortController): Promise<void> {
    if (await this.#isAskedToStop(id).catch(() => false))
      controller.abort(new EngineError('stopped', 'It was stopped.', 'Start it again when it suits.'));
  }

  async #wakeWaiting(record: TransferRecord): Promise<void> {
    const { records } = this.installation;
    const places = [record.onto_path, record.from_path].filter((place) => place !== null);
    await wakeFirst(records, (q) => q.whereIn('onto_path', places).orWhereIn('from_path', places));
  }

  /** Has the baselines packed that a worker left unpacked. */
  async wakePacking(): Promise<void> {
    const { records } = this.installation;
    for (const { id } of await spoolsToPack(records)) await enqueue(records, 'pack', id);
  }

  /** Wakes what no job will come to; whatever may not go yet finds out itself. Called every half minute. */
  async wakeUnqueued(): Promise<void> {
    const { records } = this.installation;
    for (const { task, id } of await findUnqueued(records)) await enqueue(records, task, id);
  }

  /** Takes over what dead workers left behind, and what this one does not know that it has. Called every two seconds. */
  async sweep(): Promise<void> {
    const { records, transfers, log } = this.installation;
    const dead = await this.identity.findDead();
    const own = String(this.identity.id);
    const orphans = (
      await records('transfer')
        .whereIn('worker', [own, ...dead.map(String)])
        .whereIn('state', ['running', 'stopping'])
        .select('id', 'worker')
    ).filter(({ id, worker }) => worker !== own || !(this.#claiming.has(id) || this.#running.has(id)));
    for (const { id, worker } of orphans) await transfers.orphan(records, id, worker);
    if (dead.length === 0) return;
    log.warn({ dead }, 'taking over from workers that died');
    // The queue keeps a dead worker's jobs for hours: whatever waits is woken anew, and finds out itself whether it may go.
    await wakeFirst(records, () => undefined);
    for (const { id } of await records('forecast').where({ state: 'computing' }).select('id'))
      await enqueue(records, 'forecast', id);
    for (const { revising } of await records('change_request').whereNotNull('revising').select('revising'))
      await enqueue(records, 'forecast', revising);
    await this.wakePacking();
    // Last of all: whoever dies before leaves them to be found again.
    await this.identity.forget(dead);
  }
}
