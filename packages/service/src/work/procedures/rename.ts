import { type Environment, HashMemory, layout, switchTrees } from '@tessarion/engine';
import { type EnvironmentRecord, toEngine } from '../../fleet/environments.js';
import { copyDatabases, copyPlace } from '../../fleet/new-copy.js';
import { renameEnvironment } from '../../fleet/rename.js';
import { resolveSettings } from '../../fleet/settings.js';
import { lookAtAllOf } from '../../requests/requests.js';
import { inputOf } from '../../transfers/inputs.js';
import type { TransferContext } from '../context.js';
import { checkCopy, settleChecks } from '../copy-checks.js';
import { type CopyWishes, fillCopy, makeDatabases, NOTHING_LEFT_OUT } from '../copying.js';
import { measure } from '../measure.js';
import { noteOwnSettings, ownValues } from '../own-settings.js';
import type { Procedure } from '../procedure.js';

const newPath = (context: TransferContext): string =>
  `${context.record.site}/${inputOf(context.record, 'rename').name}`;

/** All of it moves, and nobody sees more than before. */
const STAYS: CopyWishes = { leftOut: NOTHING_LEFT_OUT, acceptTraces: [], acceptPersonal: 'it stays where it is' };

/** The copy as it is, and as it will be at its new address; it keeps its old path until the switch. */
async function both(context: TransferContext): Promise<{ source: Environment; destination: Environment }> {
  const { from } = inputOf(context.record, 'rename');
  const record = await context.environmentRecord(from);
  const profile = await context.profile(record.site);
  return {
    source: toEngine(record, profile),
    destination: toEngine({ ...record, ...context.noted('place') }, profile),
  };
}

async function setStatus(context: TransferContext, path: string, status: EnvironmentRecord['status']): Promise<void> {
  const { environments, records } = context.installation;
  await environments.update(records, path, { status });
  await context.publishRoutes();
}

/**
 * Gives a copy another name, and the address that goes with it: everything that holds its address is written anew
 * beside it. It is closed meanwhile, so that no work is lost.
 */
export const rename: Procedure = {
  kind: 'rename',
  steps: [
    {
      name: 'check',
      title: 'Check room, versions and data classes',
      async run(context) {
        const { installation } = context;
        const { from, name } = inputOf(context.record, 'rename');
        await noteOwnSettings(context, from);
        const own = await context.environmentRecord(from);
        const server = await installation.servers.get(installation.records, own.server);
        const place = copyPlace(own.site, name, own, server, installation.front);
        const databases = copyDatabases(own.site, name, own.databases, server);
        const source = await context.environment(from);
        const { values } = resolveSettings(
          source.profile,
          { kind: own.kind, addresses: place.addresses, roots: place.roots, databases },
          ownValues(source, own.settings),
        );
        await context.remember({ place: { ...place, databases, settings: values } });
        const { destination } = await both(context);
        return settleChecks(context, await checkCopy(context, source, destination, { from }, STAYS));
      },
    },
    {
      name: 'close',
      title: 'Close it, so that no work is lost meanwhile',
      async run(context) {
        await setStatus(context, inputOf(context.record, 'rename').from, 'making');
        return undefined;
      },
    },
    {
      name: 'reserve',
      title: 'Make its new folder and databases',
      async run(context) {
        const { source, destination } = await both(context);
        await context.raiseFence(destination);
        await destination.server.makeFolder(layout.trees(destination.folder));
        await makeDatabases(context, source, destination);
        return undefined;
      },
    },
    {
      name: 'copy',
      title: 'Write rows and files with the new address',
      async run(context) {
        const { source, destination } = await both(context);
        await fillCopy(context, { from: source.path }, source, destination, STAYS, true);
        return undefined;
      },
    },
    {
      name: 'switch',
      title: 'Switch to the new name',
      async run(context) {
        const { from, name } = inputOf(context.record, 'rename');
        const { installation } = context;
        const { environments, records } = installation;
        if (!(await environments.find(records, newPath(context)))) {
          const { source, destination } = await both(context);
          await context.checkFence(destination);
          // Where it lay is needed once more, when it is nowhere on record any longer.
          const { folder, databases, server } = await context.environmentRecord(source.path);
          await context.remember({ pastSwitch: true, former: { folder, databases, server } });
          await switchTrees(destination, context.record.id, context.epoch);
          await records.transaction(async (trx) => {
            await environments.update(trx, from, { ...context.noted('place'), status: 'ready' });
            await renameEnvironment(trx, from, newPath(context), name);
            // What is asked for names it in its sentence.
            await lookAtAllOf(trx, newPath(context));
          });
        }
        await context.publishRoutes();
        return undefined;
      },
    },
    {
      name: 'clear',
      title: 'Remove what was written under the old name',
      async run(context) {
        const { installation } = context;
        const environment = await context.environment(newPath(context));
        const former = context.noted('former');
        const admin = installation.servers.admin(await installation.servers.get(installation.records, former.server));
        await admin.drop(...former.databases);
        await environment.server.remove(Buffer.from(former.folder).toString('latin1'));
        await HashMemory.forget(installation.folder.memory(inputOf(context.record, 'rename').from));
        for (const { login, system } of environment.databases) await system.refreshStatistics(login);
        await installation.environments.update(installation.records, environment.path, {
          size: await measure(environment),
          looked_at: null,
        });
        return undefined;
      },
    },
  ],
  async mustGoForward(context, step) {
    if (step === 'clear') return true;
    const { environments, records } = context.installation;
    return step === 'switch' && (await environments.find(records, newPath(context))) !== undefined;
  },
  async putBack(context) {
    const { environments, records, servers } = context.installation;
    const { from } = inputOf(context.record, 'rename');
    if (await environments.find(records, newPath(context)))
      return ['It has its new name; parts of the former one may be left.'];
    const record = await environments.find(records, from);
    const place = context.data.place;
    if (!record) return [];
    if (place) {
      const admin = servers.admin(await servers.get(records, record.server));
      await admin.drop(...place.databases);
      await toEngine(record, undefined).server.remove(Buffer.from(place.folder).toString('latin1'));
    }
    await setStatus(context, from, 'ready');
    return [];
  },
};
