import type { OnRecords } from '../ground/open.js';
/** Kind of what a lane leads onto, as far as its rule goes. */
export const laneOnto = async (on: OnRecords, path: string): Promise<string> =>
  ((await on('environment').where({ path }).first('kind')) as { kind: string } | undefined)?.kind ??
  path.split('/')[1] ??
  '';
