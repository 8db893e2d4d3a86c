import * as fs from 'node:fs/promises';
import type { ByteString } from '@tessarion/core';
import { type Environment, HashMemory, keptLinks, layout } from '@tessarion/engine';
import { removeSite } from '../../fleet/sites.js';
import { ProblemError } from '../../ground/problems.js';
import { endScope } from '../../ground/scopes.js';
import { withdrawDrafts } from '../../requests/asked-for.js';
import { forgetBaselines } from '../../stored/forget-baselines.js';
import { removeSnapshotsOf } from '../../stored/snapshots.js';
import type { TransferContext } from '../context.js';
import type { Procedure } from '../procedure.js';

/** What was linked to, and goes back to where the link is. */
interface Return {
  readonly link: ByteString;
  readonly lies: ByteString;
}

/** Roots and kept areas, areas first: they lie in the trees. */
async function returnsOf({ server, folder, place }: Environment): Promise<Return[]> {
  const returns: Return[] = [];
  for (const root of place.roots) {
    const link = layout.rootLink(folder, root.name);
    const target = await server.readLink(link);
    if (target === undefined) continue;
    const tree = target.startsWith('/') ? target : `${folder}/${target}`;
    returns.push(...(await keptLinks({ server, folder }, root.name, tree)), { link, lies: tree });
  }
  return returns;
}

/** Puts each thing back in the place of the link to it; what a death in between has done already is passed over. */
async function putInPlace({ server }: Environment, { link, lies }: Return): Promise<void> {
  if (!(await server.exists(lies))) return;
  if ((await server.readLink(link)) !== undefined) await server.remove(link);
  await server.rename(lies, link);
}

/** Removes what was made for the layout, and nothing that may be somebody's. */
async function removeOurs({ server, folder, place }: Environment): Promise<void> {
  for (const root of place.roots) {
    const keep = `${folder}/keep/${root.name}`;
    if ((await server.exists(keep)) && (await isEmpty(server, keep))) await server.remove(keep);
  }
  const keep = `${folder}/keep`;
  if ((await server.exists(keep)) && (await isEmpty(server, keep))) await server.remove(keep);
  await server.remove(layout.trees(folder));
  await server.remove(layout.fence(folder));
}

async function isEmpty(server: Environment['server'], folder: ByteString): Promise<boolean> {
  for await (const _ of server.listFolder(folder)) return false;
  return true;
}

const HOLD_MS = 10_000;

async function mustBeAlone({ installation, record }: TransferContext): Promise<void> {
  const others = (await installation.environments.list(installation.records, record.site)).filter(
    (one) => one.path !== record.onto_path,
  );
  if (others.length > 0)
    throw new ProblemError(
      'conflict',
      `${record.site} has copies: ${others.map((one) => one.path).join(', ')}.`,
      `Remove them first: tessarion env remove ${others[0]?.path}`,
    );
}

/** Gives a site back as it was found, and forgets it: its roots are folders again, with what visitors made in its place. */
export const leave: Procedure = {
  kind: 'leave',
  steps: [
    {
      name: 'check',
      title: 'See that nothing hangs on it',
      async run(context) {
        await mustBeAlone(context);
        const environment = await context.environment(context.record.onto_path);
        await context.raiseFence(environment);
        await context.remember({ returns: await returnsOf(environment) });
        return undefined;
      },
    },
    {
      name: 'layout',
      title: 'Put its folders back where they were found',
      async run(context) {
        const environment = await context.environment(context.record.onto_path);
        await context.checkFence(environment);
        const { front } = context.installation;
        await context.remember({ pastSwitch: true });
        const { lease } = await front.hold(environment.path, HOLD_MS, HOLD_MS / 5);
        try {
          for (const one of context.data.returns ?? []) await putInPlace(environment, one);
        } finally {
          await front.release(lease);
        }
        await environment.server.flush(environment.folder);
        return undefined;
      },
    },
    {
      name: 'forget',
      title: 'Remove what was made for it here',
      async run(context) {
        const { installation, record } = context;
        const { records, environments, folder } = installation;
        if (await environments.find(records, record.onto_path)) {
          await removeOurs(await context.environment(record.onto_path));
          await forgetBaselines(installation, record.onto_path);
          await withdrawDrafts(installation, record.onto_path);
        }
        await endScope(records, record.onto_path);
        await endScope(records, record.site);
        await HashMemory.forget(folder.memory(record.onto_path));
        await fs.rm(folder.store(record.site), { recursive: true, force: true });
        await records.transaction(async (trx) => {
          await removeSnapshotsOf(trx, record.site);
          await environments.remove(trx, record.onto_path);
          await removeSite(trx, record.site);
        });
        await context.publishRoutes();
        return undefined;
      },
    },
  ],
  async mustGoForward(_context, step) {
    return step !== 'check';
  },
  async putBack(context) {
    // It was only looked at, unless it had to go forward.
    return context.data.pastSwitch === true ? ['Some of its folders may be back already; give it back again.'] : [];
  },
};
