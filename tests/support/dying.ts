import { Breakpoint } from './breakpoint.js';
import { onSite, type Studio, startStudio } from './studio.js';

export const LIVE = 'threadmill/live';
export const COPY = 'threadmill/staging';

/** Every recorded step of a transfer that writes. */
export const STEPS = [
  'compare',
  'safety',
  'stage',
  'hold',
  'commit',
  'switch',
  'release',
  'tasks',
  'health',
  'proof',
  'record',
];

/** A studio with two workers, which stand still where they are told to, and are killed there. */
export class Dying {
  constructor(
    readonly studio: Studio,
    readonly breakpoint: Breakpoint,
  ) {}

  static async start(): Promise<Dying> {
    const studio = await startStudio('staging', { args: ['--workers', '2'] });
    return new Dying(studio, await Breakpoint.open(studio));
  }

  async stop(): Promise<void> {
    await this.breakpoint.close();
    await this.studio.stop();
  }

  /** The first value that a statement finds on an environment's database. */
  async one(path: string, sql: string): Promise<unknown> {
    return Object.values((await onSite(this.studio, path, (query) => query(sql)))[0] ?? {})[0];
  }

  /** Which of the workers stands at the breakpoint: the one that holds the transfer. */
  async pidOf({ id }: { readonly id: string }): Promise<number> {
    const [row] = await this.breakpoint.query(
      `SELECT w.name FROM transfer t JOIN worker w ON w.id::text = t.worker WHERE t.id = '${id}'`,
    );
    return Number(String(row?.name).replace('worker ', ''));
  }

  async killAtBreakpoint(transfer: { readonly id: string }): Promise<void> {
    await this.breakpoint.reached();
    process.kill(await this.pidOf(transfer), 'SIGKILL');
    await this.breakpoint.clear();
  }
}
