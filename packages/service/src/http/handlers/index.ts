import type { EndpointName } from '@tessarion/contract';
import type { Handlers } from './call.js';
import { environmentHandlers } from './environments.js';
import { fleetHandlers } from './fleet.js';
import { forecastHandlers } from './forecasts.js';
import { peopleHandlers } from './people.js';
import { profileHandlers } from './profiles.js';
import { snapshotHandlers } from './snapshots.js';
import { transferHandlers } from './transfers.js';

/** Every endpoint of the contract with what answers it. */
export const handlers: Handlers<EndpointName> = {
  ...peopleHandlers,
  ...profileHandlers,
  ...fleetHandlers,
  ...environmentHandlers,
  ...forecastHandlers,
  ...transferHandlers,
  ...snapshotHandlers,
};
