import type { Check } from '@tessarion/contract';
import { formatLocation } from '@tessarion/core';
import type { Environment } from '@tessarion/engine';
import type { Fronted } from './routes.js';

/** Whether visitors of an environment come through the gateway, which holds them while it is written; undefined where nobody can tell. */
export async function areHeld(
  { front }: Pick<Fronted, 'front'>,
  { place }: Pick<Environment, 'place'>,
): Promise<boolean | undefined> {
  if (!front.can.hold) return false;
  const all = await Promise.all(place.addresses.map((address) => front.standsBefore(formatLocation(address))));
  if (all.includes(false)) return false;
  return all.includes(undefined) || all.length === 0 ? undefined : true;
}

/** What a forecast says of visitors who are not held; a copy's addresses are made below the gateway's. */
export async function heldChecks(installation: Pick<Fronted, 'front'>, onto: Environment): Promise<Check[]> {
  if (onto.kind !== 'live') return [];
  const held = await areHeld(installation, onto);
  if (held) return [];
  const [address] = onto.place.addresses;
  const where = address === undefined ? onto.path : formatLocation(address);
  return [
    {
      name: 'hold',
      state: 'warning',
      message:
        held === false
          ? `${where} does not lead through Tessarion’s gateway: its visitors are not held while rows and files change.`
          : `${where} does not answer from here, so that nobody can tell whether its visitors are held while rows and files change.`,
      remedy: 'Lead it through the gateway (docs/operating.md), or choose a quiet hour.',
    },
  ];
}

/** What a forecast says of files onto an environment that was taken as it lay. */
export function inPlaceChecks(
  { path, place, profile }: Environment,
  parts: Iterable<{ readonly type: string }>,
): Check[] {
  const plain = place.roots.filter((root) => root.isPlain);
  if (plain.length === 0 || ![...parts].some((part) => part.type !== 'table')) return [];
  const names = plain.map((root) => root.name).join(', ');
  const staged = (profile?.tasks ?? []).filter((task) => task.phase === 'staged').map((task) => task.name);
  return [
    {
      name: 'files in place',
      state: 'warning',
      message: `${names} of ${path} lies as it was found: its files change one by one, and not in one step.${staged.length === 0 ? '' : ` Tasks that run beside what is in use do not run: ${staged.join(', ')}.`}`,
      remedy: 'For one step give the site back and bring it in again, to be laid out: tessarion site leave',
    },
  ];
}

/** Whether a forecast said that visitors are not held, as far as anybody knows. */
export const notHeld = (checks: readonly Check[]): boolean => checks.some((check) => check.name === 'hold');
