import type { JSX } from 'react';
import { Field } from './field.js';

interface FieldProps {
  readonly value: string;
  readonly change: (value: string) => void;
  /** What one might write. */
  readonly example: string;
}

/** A line of text as machines read it, which must be given. */
export function TextField({
  label,
  value,
  change,
  example,
  ...rules
}: FieldProps & {
  readonly label: string;
  readonly pattern?: string;
  readonly type?: 'url';
}): JSX.Element {
  return (
    <Field>
      {label}
      <input
        className="mono"
        required
        placeholder={example}
        value={value}
        onChange={(event) => change(event.target.value)}
        {...rules}
      />
    </Field>
  );
}

/** By what commands and addresses call a thing. */
export const NameField = (field: FieldProps): JSX.Element => (
  <TextField label="Name, as commands write it" pattern="[a-z][a-z0-9\-]*" {...field} />
);

/** Where something answers. */
export function HostFields<T extends { readonly host: string; readonly port: number }>({
  value,
  change,
}: {
  readonly value: T;
  readonly change: (value: T) => void;
}): JSX.Element {
  return (
    <>
      <TextField
        label="Host"
        example="127.0.0.1"
        value={value.host}
        change={(host) => change({ ...value, host: host.trim() })}
      />
      <Field>
        Port
        <input
          className="mono"
          type="number"
          required
          min={1}
          max={65_535}
          value={value.port}
          onChange={(event) => change({ ...value, port: event.target.valueAsNumber || 0 })}
        />
      </Field>
    </>
  );
}
