import { toBytes } from '@tessarion/core';
import { makeMove, movesOf } from '@tessarion/engine';
import { removeSite } from '../../fleet/sites.js';
import { mustHaveRoots, mustReachDatabases, readOwnSettings } from '../adopting.js';
import { measure } from '../measure.js';
import type { Procedure } from '../procedure.js';

/** Brings in a site as it runs: its root becomes a link to a tree, its kept areas move beside it, unless it stays as it lies. */
export const adopt: Procedure = {
  kind: 'adopt',
  steps: [
    {
      name: 'check',
      title: 'Reach files and databases',
      async run(context) {
        const { installation, record } = context;
        const environment = await context.environment(record.onto_path);
        await mustHaveRoots(environment);
        await mustReachDatabases(environment);
        const settings = await readOwnSettings(environment);
        await installation.environments.update(installation.records, environment.path, { settings });
        return undefined;
      },
    },
    {
      name: 'layout',
      title: 'Give it the layout that switches in one step',
      async run(context) {
        const environment = await context.environment(context.record.onto_path);
        await context.raiseFence(environment);
        const roots = environment.place.roots.filter((root) => root.isPlain !== true);
        // Each is one move; after a death in between those that are left are found.
        for (const { name } of roots)
          for (const move of await movesOf(environment, name, toBytes(context.record.id)))
            await makeMove(environment, move);
        return roots.length === 0 ? 'it stays as it lies' : undefined;
      },
    },
    {
      name: 'publish',
      title: 'Serve it',
      async run(context) {
        const { installation, record } = context;
        const environment = await context.environment(record.onto_path);
        await installation.environments.update(installation.records, record.onto_path, {
          status: 'ready',
          size: await measure(environment),
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
    const { installation, record } = context;
    await installation.environments.remove(installation.records, record.onto_path);
    await removeSite(installation.records, record.site);
    return [];
  },
};
