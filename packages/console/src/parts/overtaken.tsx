import { ServiceProblem } from '@tessarion/client';
import type { JSX, ReactNode } from 'react';
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
    <div className="failure" role="alert">
      <b>Somebody was quicker</b>
      <p>Nothing was written, and your text is still here. Now it says: {now}</p>
      <button type="button" className="btn sm" onClick={again}>
        Write mine over it
      </button>
    </div>
  );
}
