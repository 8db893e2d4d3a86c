import type { Environments } from '../fleet/environments.js';
import type { Servers } from '../fleet/servers.js';
import type { Front } from '../front/front.js';
import type { Ground } from '../ground/ground.js';
import type { Journal } from '../journal/journal.js';
import type { Transfers } from './transfers.js';
/** What every part of the service and worker needs. */
export interface Installation extends Ground {
  readonly environments: Environments;
  readonly servers: Servers;
  readonly transfers: Transfers;
  readonly journal: Journal;
  readonly front: Front;
}
