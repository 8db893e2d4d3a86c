import { type Address, formatLocation } from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import type { Environments } from './environments.js';

/** Sees that no environment answers at an address that another one is to have. @throws {ProblemError} `taken` */
export async function refuseTakenAddresses(
  on: OnRecords,
  environments: Environments,
  wanted: readonly Address[],
): Promise<void> {
  const hosts = new Map(
    (await environments.list(on)).flatMap((one) =>
      one.addresses.flatMap((address) => [address, ...address.aliases]).map((at) => [at.host, one.path] as const),
    ),
  );
  for (const address of wanted) {
    const owner = hosts.get(address.host);
    if (owner !== undefined)
      throw new ProblemError(
        'taken',
        `${formatLocation(address)} is taken: ${owner} answers there.`,
        'Choose another name or address.',
      );
  }
}
