import { PERMISSIONS, type Permission } from '@tessarion/core';
import type { JSX } from 'react';
import { Tick } from '../../parts/field.js';

/** Chooses permissions, each in words and by its name. */
export function PermissionPicks({
  legend,
  among,
  chosen,
  choose,
}: {
  readonly legend: string;
  readonly among: readonly Permission[];
  readonly chosen: readonly Permission[];
  readonly choose: (chosen: Permission[]) => void;
}): JSX.Element {
  return (
    <fieldset className="grid gap-2">
      <legend className="pb-4 text-small text-ink2">{legend}</legend>
      {among.map((one) => (
        <Tick key={one} className="items-start">
          <input
            className="mt-2"
            type="checkbox"
            checked={chosen.includes(one)}
            onChange={(event) =>
              choose(event.target.checked ? [...chosen, one] : chosen.filter((each) => each !== one))
            }
          />
          <span>
            {PERMISSIONS[one]} <span className="mono text-ink3">{one}</span>
          </span>
        </Tick>
      ))}
    </fieldset>
  );
}

/** Permissions as they are read. */
export function PermissionList({ permissions }: { readonly permissions: readonly Permission[] }): JSX.Element {
  return (
    <ul>
      {permissions.map((permission) => (
        <li className="flex flex-col border-b border-line py-4" key={permission}>
          <span className="first-letter:uppercase">{PERMISSIONS[permission]}</span>
          <span className="mono text-ink3">{permission}</span>
        </li>
      ))}
    </ul>
  );
}
