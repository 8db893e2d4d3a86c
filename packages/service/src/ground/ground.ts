import type { Logger } from 'pino';
import type { DataFolder } from './data-folder.js';
import type { Records } from './open.js';

/** What stands under all rooms: folder and keys, records, addresses, clock and log. */
export interface Ground {
  readonly folder: DataFolder;
  readonly records: Records;
  readonly recordsUrl: string;
  readonly consoleUrl: string;
  readonly now: () => Date;
  readonly log: Logger;
}
