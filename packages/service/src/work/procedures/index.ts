import { inputOf } from '../../transfers/inputs.js';
import type { TransferRecord } from '../../transfers/transfers.js';
import type { Procedure } from '../procedure.js';
import { adopt } from './adopt.js';
import { clone } from './clone.js';
import { leave } from './leave.js';
import { preview } from './preview.js';
import { push } from './push.js';
import { remove } from './remove.js';
import { rename } from './rename.js';
import { reset } from './reset.js';
import { snapshot } from './snapshot.js';

/**
 * How a transfer is done. An undo goes the way of a push, and so does a restore onto live; one onto a copy goes that of a
 * reset.
 */
export function procedureFor(record: TransferRecord): Procedure {
  switch (record.kind) {
    case 'adopt':
      return adopt;
    case 'clone':
      return clone;
    case 'preview':
      return preview;
    case 'push':
    case 'pull':
    case 'undo':
      return push;
    case 'reset':
      return reset;
    case 'restore':
      return inputOf(record, 'restore').onto === 'live' ? push : reset;
    case 'rename':
      return rename;
    case 'snapshot':
      return snapshot;
    case 'remove':
      return remove;
    case 'leave':
      return leave;
  }
}
