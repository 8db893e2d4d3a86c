import type { ComponentProps, JSX } from 'react';

/** A field under its name. */
export function Field({ className = '', ...rest }: ComponentProps<'label'>): JSX.Element {
  // biome-ignore lint/a11y/noLabelWithoutControl: what it names is among its children
  return <label className={`flex flex-col gap-2 text-small text-ink2 ${className}`.trim()} {...rest} />;
}

/** A box, and what it means to tick it. */
export function Tick({ className = '', ...rest }: ComponentProps<'label'>): JSX.Element {
  // biome-ignore lint/a11y/noLabelWithoutControl: what it names is among its children
  return <label className={`flex min-h-24 items-center gap-8 py-4 touch:min-h-44 ${className}`.trim()} {...rest} />;
}
