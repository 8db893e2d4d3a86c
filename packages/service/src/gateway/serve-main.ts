/** One process of the gateway, started and kept by `main.js`. */
const [part, dataFolder, host, port, trusted] = process.argv.slice(2) as [string, string, string, string, string];
if (part !== 'front' && part !== 'copies') throw new Error(`${part} is no part of the gateway`);
const trustedFronts = trusted.split(',').filter((one) => one !== '');
void import('./serve-gateway.js').then(({ serveGateway }) =>
  serveGateway({ part, dataFolder, host, port: Number(port), trustedFronts }),
);
