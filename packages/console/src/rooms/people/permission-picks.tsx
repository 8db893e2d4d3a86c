import { PERMISSIONS, type Permission } from '@tessarion/core';
import type { JSX } from 'react';

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
    <fieldset className="permission-picks">
      <legend>{legend}</legend>
      {among.map((one) => (
        <label key={one} className="tick">
          <input
            type="checkbox"
            checked={chosen.includes(one)}
            onChange={(event) =>
              choose(event.target.checked ? [...chosen, one] : chosen.filter((each) => each !== one))
            }
          />
          <span>
            {PERMISSIONS[one]} <span className="qq mono">{one}</span>
          </span>
        </label>
      ))}
    </fieldset>
  );
}

/** Permissions as they are read. */
export function PermissionList({ permissions }: { readonly permissions: readonly Permission[] }): JSX.Element {
  return (
    <ul className="plain may">
      {permissions.map((permission) => (
        <li key={permission}>
          <span>{PERMISSIONS[permission]}</span>
          <span className="qq mono">{permission}</span>
        </li>
      ))}
    </ul>
  );
}
