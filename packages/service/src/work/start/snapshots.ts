import type { Transfer } from '@tessarion/contract';
import { plainSentence } from '@tessarion/core';
import { refusePreview } from '../../fleet/environments.js';
import { type Starter, start } from './starter.js';

/** Has a snapshot taken of an environment. @throws {ProblemError} `not-found`, `lane-closed` */
export async function startSnapshot(by: Starter, path: string, reason: string): Promise<Transfer> {
  const { records, environments } = by.installation;
  const record = await environments.get(records, path);
  refusePreview(record);
  return records.transaction((trx) => {
    const sentence = plainSentence({ kind: 'snapshot', of: record.path });
    const wanted = { kind: 'snapshot' as const, from: null, onto: record.path, site: record.site, sentence };
    return start(trx, by, { ...wanted, input: { reason } }, { reason });
  });
}
