import type { JSX } from 'react';

/** Onto live, the destination is typed in full; never filled in beforehand. */
export function TypeName({
  path,
  typed,
  type,
  isFirst = false,
}: {
  readonly path: string;
  readonly typed: string;
  readonly type: (text: string) => void;
  /** Whether nothing else is to be decided before. */
  readonly isFirst?: boolean;
}): JSX.Element {
  return (
    <label className="grid gap-4">
      <span className="text-ink2">
        Onto live: type <span className="mono">{path}</span>
      </span>
      <input
        className="mono"
        data-asked
        autoFocus={isFirst}
        spellCheck={false}
        autoComplete="off"
        value={typed}
        onChange={(event) => type(event.target.value)}
      />
    </label>
  );
}
