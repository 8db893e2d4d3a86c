import type { JSX } from 'react';
import { useRouteError } from 'react-router';
import { Button, ButtonLink } from '../parts/button.js';
import { Room } from '../parts/room.js';
import { Empty, Failure } from '../parts/states.js';

/** What stands at an address that leads nowhere. */
export function NowhereRoom(): JSX.Element {
  return (
    <Room>
      <h1 className="sr-only">Nowhere</h1>
      <Empty title="There is no such room" act={<ButtonLink to="/">To the fleet</ButtonLink>}>
        The address may be an old one, or miss a letter.
      </Empty>
    </Room>
  );
}

/** Shown where a room breaks, or cannot be fetched because the service was updated meanwhile. */
export function BrokenRoom(): JSX.Element {
  const error = useRouteError();
  return (
    <Room>
      <h1 className="sr-only">Broken</h1>
      <Failure error={error} />
      <p className="text-ink2">If the service was updated since this page was loaded, loading it again helps.</p>
      <Button onClick={() => window.location.reload()}>Load it again</Button>
    </Room>
  );
}
