import { LocalServer } from '../local/local-server.js';
import type { Environment } from './environment.js';

/** An environment as plain data, for another thread. */
export type PortableEnvironment = Omit<Environment, 'server'>;

export function toPortable(environment: Environment): PortableEnvironment {
  const { server: _server, ...data } = environment;
  return data;
}

export const fromPortable = (data: PortableEnvironment): Environment => ({
  ...data,
  server: LocalServer.of(data.folder),
});
