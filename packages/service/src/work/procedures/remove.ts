import { HashMemory } from '@tessarion/engine';
import { endScope } from '../../ground/scopes.js';
import { withdrawDrafts } from '../../requests/asked-for.js';
import { forgetBaselines } from '../../stored/forget-baselines.js';
import type { TransferContext } from '../context.js';
import type { Procedure } from '../procedure.js';

/** Removes everything of an environment from its server; safe to run again, and for one that is half made. */
export async function removeEverything(context: TransferContext, path: string): Promise<void> {
  const { installation } = context;
  const record = await installation.environments.find(installation.records, path);
  if (record) {
    const environment = await context.environment(path);
    const server = await installation.servers.get(installation.records, record.server);
    await installation.servers.admin(server).drop(...record.databases);
    await environment.server.remove(environment.folder);
    await forgetBaselines(installation, path);
    await HashMemory.forget(installation.folder.memory(path));
    await installation.environments.remove(installation.records, path);
  }
  await context.publishRoutes();
}

/** Takes an environment away, and with it everything that was made for it. */
export const remove: Procedure = {
  kind: 'remove',
  steps: [
    {
      name: 'withdraw',
      title: 'Take it off its address',
      async run(context) {
        await context.installation.environments.update(context.installation.records, context.record.onto_path, {
          status: 'removing',
        });
        await context.publishRoutes();
        return undefined;
      },
    },
    {
      name: 'remove',
      title: 'Remove databases and files',
      async run(context) {
        await removeEverything(context, context.record.onto_path);
        await withdrawDrafts(context.installation, context.record.onto_path);
        const ended = await endScope(context.installation.records, context.record.onto_path);
        return ended === '' ? undefined : `ended what was given for it: ${ended}`;
      },
    },
  ],
  async mustGoForward() {
    return true;
  },
  async putBack() {
    return ['The environment is off its address, and may be half removed; remove it again.'];
  },
};
