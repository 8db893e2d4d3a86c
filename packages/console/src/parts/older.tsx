import type { JSX } from 'react';

/** The next page of a list that is read page by page, where there is one. */
export function Older({
  pages,
}: {
  readonly pages: { readonly hasNextPage: boolean; readonly fetchNextPage: () => unknown };
}): JSX.Element | null {
  return pages.hasNextPage ? (
    <button type="button" className="btn more" onClick={() => void pages.fetchNextPage()}>
      Show older
    </button>
  ) : null;
}
