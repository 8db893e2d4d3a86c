import type { JSX } from 'react';
import { Button } from './button.js';

/** The next page of a list that is read page by page, where there is one. */
export function Older({
  pages,
  words = 'Show older',
}: {
  readonly pages: { readonly hasNextPage: boolean; readonly fetchNextPage: () => unknown };
  readonly words?: string;
}): JSX.Element | null {
  return pages.hasNextPage ? (
    <Button className="mx-16 my-12" onClick={() => void pages.fetchNextPage()}>
      {words}
    </Button>
  ) : null;
}
