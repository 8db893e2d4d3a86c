/** The gateway as a process: `node gateway/main.js DATA-FOLDER HOST PORT`. */
const [dataFolder, host, port] = process.argv.slice(2);
if (dataFolder === undefined || host === undefined || port === undefined)
  throw new Error('usage: DATA-FOLDER HOST PORT');
void import('./serve-gateway.js').then(({ serveGateway }) => serveGateway(dataFolder, host, Number(port)));
