import { type IncomingHttpHeaders, request } from 'node:http';

/** Asks for a path at an environment's name, as a browser does that has these headers. */
export const throughGateway = (
  port: number,
  host: string,
  path: string,
  headers: Record<string, string> = {},
): Promise<{ status: number; headers: IncomingHttpHeaders }> =>
  new Promise((resolve, reject) => {
    const call = request({ host: '127.0.0.1', port, path, headers: { ...headers, host } }, (response) => {
      response.resume().on('end', () => resolve({ status: response.statusCode ?? 0, headers: response.headers }));
      response.on('error', reject);
    });
    call.on('error', reject);
    call.end();
  });
