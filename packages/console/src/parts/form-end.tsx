import type { JSX } from 'react';
import { Button } from './button.js';

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
    <div className="grid grid-cols-[1fr_auto] gap-8">
      <Button type="submit" main className="justify-center" disabled={isDisabled}>
        {button}
      </Button>
      <Button className="justify-center" onClick={leave}>
        Leave it
      </Button>
    </div>
  );
}
