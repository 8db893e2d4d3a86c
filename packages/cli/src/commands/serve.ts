import { fileURLToPath } from 'node:url';
import type { Command } from 'commander';
import { portNumber, wholeNumber } from './options.js';

/** Starting the service. */
export function addServe(program: Command): void {
  program
    .command('serve')
    .description('start the service with its worker and gateway')
    .option(
      '--data <FOLDER>',
      'keys, stores and, unless --records is given, the records',
      process.env.TESSARION_DATA ?? '.tessarion',
    )
    .option('--host <ADDRESS>', 'where to listen', '127.0.0.1')
    .option('--port <N>', 'console and interface; 0 chooses a free one', portNumber, 7070)
    .option('--gateway-port <N>', 'environments; 0 keeps the last one or chooses a free one', portNumber, 0)
    .option('--public-url <URL>', 'where people reach the console, when another server stands before it')
    .option('--trusted-front <ADDRESS...>', 'servers before it that are believed who asks: addresses or networks', [])
    .option('--records <URL>', 'PostgreSQL for the records; a private cluster otherwise')
    .option('--most-requests <N>', 'requests that one person may make in a minute', wholeNumber, 3000)
    .option('--workers <N>', 'worker processes', wholeNumber, 1)
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion serve --data /var/lib/tessarion\n  tessarion serve --records postgresql://tessarion@db/records --port 8080',
    )
    .action(
      async (options: {
        data: string;
        host: string;
        port: number;
        gatewayPort: number;
        publicUrl?: string;
        records?: string;
        trustedFront: string[];
        mostRequests: number;
        workers: number;
      }) => {
        if (options.records !== undefined && new URL(options.records).password !== '') {
          // Everybody on the machine may read the arguments of a process, until it has another title.
          process.title = 'tessarion serve';
          process.stderr.write('The password of the records stood in the arguments: give them in TESSARION_RECORDS.\n');
        }
        const { serve } = await import('@tessarion/service');
        const service = await serve({
          dataFolder: options.data,
          host: options.host,
          port: options.port,
          gatewayPort: options.gatewayPort,
          recordsUrl: options.records ?? process.env.TESSARION_RECORDS,
          publicUrl: options.publicUrl ?? process.env.TESSARION_PUBLIC_URL,
          trustedFronts: options.trustedFront,
          mostRequests: options.mostRequests,
          workers: options.workers,
          version: '0.1.0',
          consoleFolder: fileURLToPath(new URL('../../../console/dist', import.meta.url)),
        });
        process.stderr.write(`Tessarion serves the console at ${service.url}\n`);
        if (service.firstKey !== undefined)
          process.stderr.write(`Make the first administrator here, once: ${service.url}/first#${service.firstKey}\n`);
        process.send?.({ url: service.url, gatewayPort: service.gatewayPort, firstKey: service.firstKey });
        let isStopping = false;
        const stop = (): void => {
          if (isStopping) return;
          isStopping = true;
          service.stop().then(
            () => process.exit(0),
            () => process.exit(1),
          );
        };
        process.on('SIGTERM', stop);
        process.on('SIGINT', stop);
      },
    );
}
