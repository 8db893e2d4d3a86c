import type { JSX } from 'react';

/** The end of a form that stands in a room: to do it, or to leave it. */
export function FormEnd({
  button,
  isDisabled,
  leave,
}: {
  readonly button: string;
  readonly isDisabled: boolean;
  readonly leave: () => void;
}): JSX.Element {
  return (
    <div className="two">
      <button type="submit" className="btn main" disabled={isDisabled}>
        {button}
      </button>
      <button type="button" className="btn" onClick={leave}>
        Leave it
      </button>
    </div>
  );
}
