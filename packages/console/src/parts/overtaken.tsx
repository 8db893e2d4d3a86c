import { ServiceProblem } from '@tessarion/client';
import type { JSX, ReactNode } from 'react';
import { Button } from './button.js';
import { Failure } from './states.js';

/** Why an edit was not written; where somebody was quicker, what is there now, and a way to go on all the same. */
export function Overtaken({
  error,
  now,
  again,
}: {
  readonly error: unknown;
  /** What is there now, as people read it. */
  readonly now: ReactNode;
  /** Writes over what is there now. */
  readonly again: () => void;
}): JSX.Element {
  if (!(error instanceof ServiceProblem) || error.problem.type !== 'tessarion:changed-meanwhile')
    return <Failure error={error} />;
  return (
    <div className="mx-16 my-12 border-l-3 border-danger bg-danger-tint px-14 py-10" role="alert">
      <b>Somebody was quicker</b>
      <p className="mt-2 mb-6 wrap-anywhere">Nothing was written, and your text is still here. Now it says: {now}</p>
      <Button small onClick={again}>
        Write mine over it
      </Button>
    </div>
  );
}
