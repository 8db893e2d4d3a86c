import type { JSX } from 'react';
import { Link } from 'react-router';
import { Empty } from '../parts/states.js';

export function NowhereRoom(): JSX.Element {
  return (
    <main className="room slab">
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
