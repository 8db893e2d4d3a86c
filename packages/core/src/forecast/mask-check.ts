import { maskText } from '../mask/mask.js';
import type { BrokenMask } from './comparison.js';
import type { Check } from './shapes.js';

/** Says which masks would give two rows the same unique value. */
export function maskCheck(broken: readonly BrokenMask[]): Check {
  const named = broken.map(({ table, column, mask }) => `${table}.${column} ("${maskText(mask)}")`);
  return {
    name: 'masks',
    state: 'failed',
    message: `A unique column cannot have a mask under which values meet: ${[...new Set(named)].join(', ')}.`,
    remedy: 'Give it one that keeps values apart in the profile: mail, phone, date, internet-address or null.',
  };
}
