import { Rewriter, toBytes } from '@tessarion/core';
import {
  areasOf,
  connectTo,
  EngineError,
  type Environment,
  FileForm,
  fileSettings,
  keepLinkTarget,
  keptAreas,
  layout,
  showPath,
} from '@tessarion/engine';
import type { TransferContext } from '../context.js';
import { measure } from '../measure.js';
import type { Procedure } from '../procedure.js';

/** Brings in a site as it runs: its root becomes a link to a tree, its kept areas move beside it. */
export const adopt: Procedure = {
  kind: 'adopt',
  steps: [
    {
      name: 'check',
      title: 'Reach files and databases',
      async run(context) {
        const environment = await context.environment(context.record.onto_path);
        for (const root of environment.place.roots) {
          if (await environment.server.isFolder(root.path)) continue;
          const there: string[] = [];
          for await (const node of environment.server.listFolder(environment.folder))
            if (node.type === 'folder') there.push(showPath(node.path));
          throw new EngineError(
            'file-unreadable',
            `There is no folder ${root.path} on the server.`,
            there.length === 0
              ? `Name the folder that holds the site’s files; there is none in ${showPath(environment.folder)}.`
              : `Name one that is there, with --root NAME: ${there.slice(0, MOST_NAMED).join(', ')}.`,
          );
        }
        for (const database of environment.databases) await (await connectTo(database.login, 'read', 'adopt')).end();
        await readOwnSettings(context, environment);
        return undefined;
      },
    },
    {
      name: 'layout',
      title: 'Give it the layout that switches in one step',
      async run(context) {
        const environment = await context.environment(context.record.onto_path);
        await context.raiseFence(environment);
        for (const root of environment.place.roots) await convertRoot(environment, root.name, context.record.id);
        return undefined;
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
    await installation.records('site').where({ name: record.site }).delete();
    return [];
  },
};

const MOST_NAMED = 10;

/** Reads the values that the environment's settings files hold now. */
async function readOwnSettings(context: TransferContext, environment: Environment): Promise<void> {
  const form = new FileForm(environment, new Rewriter(environment.place));
  const values: Record<string, string> = {};
  for (const root of environment.place.roots) {
    for (const file of new Set(fileSettings(environment.profile).map((setting) => setting.in.file))) {
      const path = `${layout.rootLink(environment.folder, root.name)}/${toBytes(file)}`;
      if (!(await environment.server.exists(path)))
        throw new EngineError(
          'file-refused',
          `The profile names the settings file ${file}, which ${environment.path} does not have.`,
          'Correct the profile, or the site.',
        );
      for (const [name, value] of form.readSettings(file, await environment.server.readFile(path)))
        values[name] = value;
    }
  }
  const { installation } = context;
  await installation.environments.update(installation.records, environment.path, { settings: values });
}

/** Each move is a rename; run again after a death in between, it goes on where it was. */
async function convertRoot(environment: Environment, root: string, id: string): Promise<void> {
  const { server, folder } = environment;
  const link = layout.rootLink(folder, root);
  const tree = layout.tree(folder, root, id);
  await server.makeFolder(layout.trees(folder));
  if ((await server.readLink(link)) === undefined) {
    if (await server.exists(link)) await server.rename(link, tree);
    await server.replaceLink(link, `trees/${root}-${id}`, `${folder}/.switch-${root}`, await server.nodeAt(tree));
  }
  const current = await server.readLink(link);
  const inUse = `${folder}/${current}`;
  for (const area of keptAreas(areasOf(environment.profile))) {
    const inside = `${inUse}/${area.path}`;
    const beside = layout.keep(folder, root, area.name);
    if ((await server.readLink(inside)) !== undefined) continue;
    if (await server.exists(inside)) {
      await server.makeFolder(`${folder}/keep/${root}`);
      if (!(await server.exists(beside))) await server.rename(inside, beside);
    } else {
      const top = await server.nodeAt(inUse);
      await server.makeFolder(beside, top?.mode, top);
      await server.makeFolder(inside.split('/').slice(0, -1).join('/'));
    }
    const owner = await server.nodeAt(beside);
    await server.replaceLink(inside, keepLinkTarget(root, area), `${inside}.tsr-switch`, owner);
  }
}
