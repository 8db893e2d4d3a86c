import { pino } from 'pino';
import { Environments } from '../fleet/environments.js';
import { Servers } from '../fleet/servers.js';
import { GatewayControl } from '../front/control.js';
import { GatewayFront } from '../front/gateway-front.js';
import { DataFolder } from '../ground/data-folder.js';
import { openRecords } from '../ground/open.js';
import { Journal } from '../journal/journal.js';
import type { Installation } from '../transfers/installation.js';
import { Transfers } from '../transfers/transfers.js';

/** What a process of the installation is told through its environment variables. */
export interface InstallationSettings {
  readonly dataFolder: string;
  readonly recordsUrl: string;
  readonly consoleUrl: string;
  readonly gatewayPort: number;
}

/** Settings of an installation as the variables that its processes are given. */
export const toVariables = (settings: InstallationSettings): Record<string, string> => ({
  TESSARION_DATA: settings.dataFolder,
  TESSARION_RECORDS_URL: settings.recordsUrl,
  TESSARION_CONSOLE_URL: settings.consoleUrl,
  TESSARION_GATEWAY_PORT: String(settings.gatewayPort),
});

/** Opens the installation that the environment variables name. */
export async function openInstallation(
  name: string,
  variables: NodeJS.ProcessEnv = process.env,
  now: () => Date = () => new Date(),
): Promise<Installation & { readonly front: GatewayFront }> {
  const need = (key: string): string => {
    const value = variables[key];
    if (value === undefined || value === '') throw new Error(`The variable ${key} is needed.`);
    return value;
  };
  const folder = await DataFolder.open(need('TESSARION_DATA'));
  const recordsUrl = need('TESSARION_RECORDS_URL');
  return {
    folder,
    recordsUrl,
    records: openRecords(recordsUrl),
    environments: new Environments(folder),
    servers: new Servers(folder),
    transfers: new Transfers(folder, now),
    journal: new Journal(folder.keys, now),
    front: new GatewayFront(
      folder,
      new GatewayControl(folder.run('gateway.sock')),
      Number(need('TESSARION_GATEWAY_PORT')),
    ),
    consoleUrl: need('TESSARION_CONSOLE_URL'),
    now,
    log: pino({
      name,
      level: variables.TESSARION_LOG_LEVEL ?? 'info',
      redact: ['req.headers.authorization', 'req.headers.cookie', '*.password'],
    }),
  };
}
