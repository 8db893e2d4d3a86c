import type { DatabaseAddress } from '@tessarion/core';
import type { JSX } from 'react';
import { Field } from './field.js';
import { HostFields } from './text-field.js';

/** A database that nobody has named yet. */
export const NO_DATABASE: DatabaseAddress = {
  system: 'postgresql',
  host: '127.0.0.1',
  port: 5432,
  database: '',
  user: '',
  password: '',
};

const SYSTEMS = { postgresql: ['PostgreSQL', 5432], mariadb: ['MariaDB', 3306] } as const;

/** Where a database is, and how one logs in there. */
export function DatabaseFields({
  legend,
  note,
  value,
  change,
  isServer = false,
}: {
  readonly legend: string;
  readonly note: string;
  readonly value: DatabaseAddress;
  readonly change: (value: DatabaseAddress) => void;
  /** The whole server is meant, and no database of it. */
  readonly isServer?: boolean;
}): JSX.Element {
  return (
    <fieldset className="my-4 grid min-w-0 grid-cols-2 gap-8">
      <legend className="pb-4 font-semibold">{legend}</legend>
      <p className="col-span-full text-ink2">{note}</p>
      <Field className="col-span-full">
        Kind
        <select
          value={value.system}
          onChange={(event) => {
            const system = event.target.value as DatabaseAddress['system'];
            // A port that nobody chose goes with the kind.
            const isUsual = value.port === SYSTEMS[value.system][1];
            change({ ...value, system, port: isUsual ? SYSTEMS[system][1] : value.port });
          }}
        >
          {Object.entries(SYSTEMS).map(([system, [words]]) => (
            <option key={system} value={system}>
              {words}
            </option>
          ))}
        </select>
      </Field>
      <HostFields value={value} change={change} />
      {!isServer && (
        <Field className="col-span-full">
          Database
          <input
            className="mono"
            required
            value={value.database}
            onChange={(event) => change({ ...value, database: event.target.value })}
          />
        </Field>
      )}
      <Field>
        User
        <input
          className="mono"
          required
          autoComplete="off"
          value={value.user}
          onChange={(event) => change({ ...value, user: event.target.value })}
        />
      </Field>
      <Field>
        Password
        <input
          type="password"
          autoComplete="new-password"
          value={value.password}
          onChange={(event) => change({ ...value, password: event.target.value })}
        />
      </Field>
    </fieldset>
  );
}
