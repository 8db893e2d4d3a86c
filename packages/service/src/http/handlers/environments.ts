import type { Check } from '@tessarion/contract';
import { type Address, formatLocation, nameFault, proposeName, pullLane } from '@tessarion/core';
import { refusePreview } from '../../fleet/environments.js';
import { liveOf } from '../../fleet/live-of.js';
import { copyPlace } from '../../fleet/new-copy.js';
import { publishHolders } from '../../front/routes.js';
import { noEnvironment } from '../../ground/absent.js';
import { publishEvent } from '../../ground/events.js';
import { ProblemError } from '../../ground/problems.js';
import { visitsOf } from '../../requests/visits.js';
import { startClone, startRemoval, startRename } from '../../work/start/copies.js';
import { environmentTag, readFleet } from '../views/fleet.js';
import type { Call, Handlers } from './call.js';

/** An environment as the site room shows it. @throws {ProblemError} `not-found` */
async function shown({ installation, sight }: Pick<Call, 'installation' | 'sight'>, path: string) {
  const [site] = await readFleet(installation, installation.records, sight, {
    site: path.split('/')[0],
    previews: true,
  });
  const found = site?.environments.find((one) => one.path === path);
  if (!found) throw noEnvironment(path);
  return found;
}

export const environmentHandlers: Handlers<
  | 'environmentShow'
  | 'environmentProposal'
  | 'environmentCreate'
  | 'environmentEdit'
  | 'environmentRename'
  | 'environmentRemove'
  | 'itemHistory'
  | 'environmentLogins'
  | 'environmentEnter'
> = {
  environmentShow: (call) => shown(call, `${call.params.site}/${call.params.environment}`),

  async environmentProposal({ installation, params, query }) {
    const live = await liveOf(installation, params.site);
    const siblings = await installation.environments.list(installation.records, params.site);
    const taken = new Set(siblings.map((one) => one.name));
    const name = query.name ?? proposeName(query.kind, taken);
    const server = await installation.servers.get(installation.records, live.server);
    const checks: Check[] = [];
    const fault = nameFault(name) ?? (taken.has(name) ? `${params.site}/${name} exists already.` : undefined);
    checks.push(
      fault === undefined
        ? { name: 'name', state: 'passed', message: 'The name is free.' }
        : { name: 'name', state: 'failed', message: fault, remedy: `Take ${proposeName(name, taken)}, for example.` },
    );
    const place = copyPlace(
      params.site,
      fault === undefined ? name : proposeName(name, taken),
      live,
      server,
      installation.front,
    );
    return { name, address: formatLocation(place.addresses[0] as Address), server: server.name, checks };
  },

  async environmentEdit(call) {
    const { installation, params, body } = call;
    const { records, environments, now } = installation;
    const path = `${params.site}/${params.environment}`;
    refusePreview(await environments.get(records, path));
    await records.transaction(async (trx) => {
      const record = await environments.hold(trx, path);
      call.mustMatch(environmentTag(record));
      if (body.schedule) {
        const verdict = pullLane(await environments.get(trx, body.schedule.from), record);
        if (!verdict.allowed) throw new ProblemError('lane-closed', verdict.reason, verdict.next);
      }
      const changes = {
        ...(body.description === undefined ? {} : { description: body.description === '' ? null : body.description }),
        ...(body.schedule === undefined
          ? {}
          : {
              schedule: body.schedule && {
                ...body.schedule,
                since: now().toISOString(),
                last: null,
                by: call.person.id,
              },
            }),
      };
      await environments.update(trx, record.path, changes);
      const before = { description: record.description, schedule: record.schedule };
      await call.note(trx, record.path, { before, after: changes });
      await publishEvent(trx, { type: 'site', site: record.site });
    });
    return shown(call, path);
  },

  environmentCreate: (call) => startClone(call, call.params.site, call.body),

  environmentRename: (call) => startRename(call, `${call.params.site}/${call.params.environment}`, call.body.name),

  environmentRemove: (call) => startRemoval(call, `${call.params.site}/${call.params.environment}`, call.query.confirm),

  itemHistory: ({ installation, params, query }) =>
    visitsOf(installation.records, `${params.site}/${params.environment}`, query, query.limit ?? 50),

  async environmentLogins(call) {
    const { installation, params } = call;
    const record = await installation.environments.get(installation.records, `${params.site}/${params.environment}`);
    await call.note(installation.records, record.path, {});
    return { environment: record.path, gate: record.gate };
  },

  async environmentEnter(call) {
    const { installation, params } = call;
    const record = await installation.environments.get(installation.records, `${params.site}/${params.environment}`);
    const url = formatLocation(record.addresses[0] as Address);
    await call.note(installation.records, record.path, {});
    if (!record.gate) return { url };
    // Whoever was let in since is to be known there as well.
    await publishHolders(installation);
    return { url: installation.front.entry(url, record.path, `person ${call.person.id}`, installation.now()) };
  },
};
