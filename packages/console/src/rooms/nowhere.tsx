import type { JSX } from 'react';
import { Link, useRouteError } from 'react-router';
import { Empty, Failure } from '../parts/states.js';

export function NowhereRoom(): JSX.Element {
  return (
    <main className="room slab">
      <h1 className="sr-only">Nowhere</h1>
      <Empty
        title="There is no such room"
        act={
          <Link className="btn" to="/">
            To the fleet
          </Link>
        }
      >
        The address may be an old one, or miss a letter.
      </Empty>
    </main>
  );
}

/** Shown where a room breaks, or cannot be fetched because the service was updated meanwhile. */
export function BrokenRoom(): JSX.Element {
  const error = useRouteError();
  return (
    <main className="room slab">
      <h1 className="sr-only">Broken</h1>
      <Failure error={error} />
      <p className="q">If the service was updated since this page was loaded, loading it again helps.</p>
      <button type="button" className="btn" onClick={() => window.location.reload()}>
        Load it again
      </button>
    </main>
  );
}
