import type { JSX } from 'react';

/** The next page of a list that is read page by page, where there is one. */
export function Older({
  pages,
  words = 'Show older',
}: {
  readonly pages: { readonly hasNextPage: boolean; readonly fetchNextPage: () => unknown };
  readonly words?: string;
}): JSX.Element | null {
  return pages.hasNextPage ? (
    <button type="button" className="btn more" onClick={() => void pages.fetchNextPage()}>
      {words}
    </button>
  ) : null;
}
