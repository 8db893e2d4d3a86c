import type { EndpointName } from '@tessarion/contract';
import { accessHandlers } from './access.js';
import type { Handlers } from './call.js';
import { claimHandlers } from './claims.js';
import { environmentHandlers } from './environments.js';
import { figureHandlers } from './figures.js';
import { fleetHandlers } from './fleet.js';
import { forecastHandlers } from './forecasts.js';
import { guestRoomHandlers } from './guest-room.js';
import { guestHandlers } from './guests.js';
import { journalHandlers } from './journal.js';
import { noticeHandlers } from './notices.js';
import { peopleHandlers } from './people.js';
import { planHandlers } from './plans.js';
import { previewHandlers } from './previews.js';
import { profileHandlers } from './profiles.js';
import { requestHandlers } from './requests.js';
import { reviewHandlers } from './reviews.js';
import { secondFactorHandlers } from './second-factor.js';
import { snapshotHandlers } from './snapshots.js';
import { transferPageHandlers } from './transfer-pages.js';
import { transferHandlers } from './transfers.js';
import { webhookHandlers } from './webhooks.js';

/** Every endpoint of the contract with what answers it. */
export const handlers: Handlers<EndpointName> = {
  ...accessHandlers,
  ...secondFactorHandlers,
  ...peopleHandlers,
  ...journalHandlers,
  ...noticeHandlers,
  ...webhookHandlers,
  ...requestHandlers,
  ...reviewHandlers,
  ...claimHandlers,
  ...previewHandlers,
  ...guestHandlers,
  ...guestRoomHandlers,
  ...planHandlers,
  ...profileHandlers,
  ...figureHandlers,
  ...fleetHandlers,
  ...environmentHandlers,
  ...forecastHandlers,
  ...transferHandlers,
  ...transferPageHandlers,
  ...snapshotHandlers,
};
