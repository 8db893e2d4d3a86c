import { startGateway } from '../../../tests/support/gateway-alone.js';
import { endProcessesOf } from '../../../tests/support/processes.js';
import { GatewayControl } from '../src/front/control.js';
import { GatewayFront } from '../src/front/gateway-front.js';
import { DataFolder } from '../src/ground/data-folder.js';
import { frontSuite } from './conformance/fronts.js';
import { startPlainFront } from './conformance/plain-front.js';

frontSuite('the gateway of the installation', async () => {
  const gateway = await startGateway([]);
  const folder = await DataFolder.open(gateway.folder);
  return {
    front: new GatewayFront(folder, new GatewayControl(folder.run('gateway.sock')), gateway.port),
    async halt() {
      gateway.keeper.kill('SIGKILL');
      await endProcessesOf(gateway.folder);
    },
    stop: () => gateway.stop(),
  };
});

frontSuite('one that exists in tests only, and can neither hold nor count', startPlainFront);
