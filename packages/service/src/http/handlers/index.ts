import type { EndpointName } from '@tessarion/contract';
import { accessHandlers } from './access.js';
import type { Handlers } from './call.js';
import { environmentHandlers } from './environments.js';
import { fleetHandlers } from './fleet.js';
import { forecastHandlers } from './forecasts.js';
import { journalHandlers } from './journal.js';
import { noticeHandlers } from './notices.js';
import { peopleHandlers } from './people.js';
import { planHandlers } from './plans.js';
import { profileHandlers } from './profiles.js';
import { requestHandlers } from './requests.js';
import { reviewHandlers } from './reviews.js';
import { snapshotHandlers } from './snapshots.js';
import { transferHandlers } from './transfers.js';
import { webhookHandlers } from './webhooks.js';

/** Every endpoint of the contract with what answers it. */
export const handlers: Handlers<EndpointName> = {
  ...accessHandlers,
  ...peopleHandlers,
  ...journalHandlers,
  ...noticeHandlers,
  ...webhookHandlers,
  ...requestHandlers,
  ...reviewHandlers,
  ...planHandlers,
  ...profileHandlers,
  ...fleetHandlers,
  ...environmentHandlers,
  ...forecastHandlers,
  ...transferHandlers,
  ...snapshotHandlers,
};
