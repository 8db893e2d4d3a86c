import type { ComponentProps, JSX } from 'react';

/** A room of somebody who is not inside yet: the mosaic, and a form beside it. */
export function Door(props: ComponentProps<'main'>): JSX.Element {
  return (
    <main
      className="grid min-h-dvh flex-1 grid-cols-[minmax(0,1fr)_400px] gap-2 max-desk:grid-cols-1 max-desk:grid-rows-[96px_1fr]"
      {...props}
    />
  );
}

/** The fields of a {@link Door}. */
export function DoorForm(props: ComponentProps<'form'>): JSX.Element {
  return (
    <form
      className="flex flex-col justify-center gap-12 bg-slab p-32 max-desk:justify-start max-desk:px-16 max-desk:py-24"
      {...props}
    />
  );
}

/** A field under its name, larger than elsewhere. */
export function DoorField(props: ComponentProps<'label'>): JSX.Element {
  // biome-ignore lint/a11y/noLabelWithoutControl: what it names is among its children
  return <label className="grid gap-4 font-semibold [&_input]:h-36 [&_input]:font-normal" {...props} />;
}
