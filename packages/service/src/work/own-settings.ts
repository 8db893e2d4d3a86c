import { Rewriter, toBytes } from '@tessarion/core';
import { EngineError, type Environment, FileForm, fileSettings, layout } from '@tessarion/engine';
import type { TransferContext } from './context.js';

/** Values that belong to a copy itself, such as a licence key given to it or a key made for it. */
export function ownValues(
  { profile }: Pick<Environment, 'profile'>,
  settings: Readonly<Record<string, string>>,
): Record<string, string> {
  const own = (profile?.settings ?? []).filter(
    (setting) => setting.from && ('own' in setting.from || 'generate' in setting.from),
  );
  return Object.fromEntries(own.flatMap(({ name }) => (settings[name] === undefined ? [] : [[name, settings[name]]])));
}

/** The values that an environment's settings files hold now; of files that are not there, none. */
export async function settingsInFiles(environment: Environment): Promise<Record<string, string>> {
  const { server, folder, place, profile } = environment;
  const form = new FileForm(environment, new Rewriter(place));
  const values: Record<string, string> = {};
  for (const file of new Set(fileSettings(profile).map((setting) => setting.in.file)))
    for (const root of place.roots) {
      const path = `${layout.rootLink(folder, root.name)}/${toBytes(file)}`;
      if (!(await server.exists(path))) continue;
      for (const [name, value] of form.readSettings(file, await server.readFile(path))) values[name] = value;
    }
  return values;
}

/**
 * Takes down what somebody wrote into an environment's settings files that is its own, such as a licence key: what is
 * written there next keeps it. Where a file cannot be read, what is on record stays, and that is said: a copy that somebody
 * broke can be made anew.
 */
export async function noteOwnSettings(context: TransferContext, path: string): Promise<void> {
  const { environments, records } = context.installation;
  const { settings } = await environments.get(records, path);
  const environment = await context.environment(path);
  const found = await settingsInFiles(environment).catch(async (error: unknown) => {
    if (!(error instanceof EngineError && error.code.startsWith('file-'))) throw error;
    await context.say(`What is ${path}’s own in its settings is taken from the records: ${error.message}`);
    return {};
  });
  const now = ownValues(environment, found);
  if (Object.entries(now).every(([name, value]) => settings[name] === value)) return;
  await environments.update(records, path, { settings: { ...settings, ...now } });
}
