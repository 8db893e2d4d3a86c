import type { ComponentProps, JSX } from 'react';

/** A cell of figures, and one that takes what room is left and is cut there. */
export const FIGURE = 'w-px text-right max-desk:w-auto max-desk:text-left';
/** The look of {@link WideCell}, for heads. */
export const WIDE =
  'w-[60%] max-w-0 overflow-hidden text-ellipsis max-desk:-order-1 max-desk:w-full max-desk:max-w-none';

/** A cell of figures. */
export function Figure({ className = '', ...rest }: ComponentProps<'td'>): JSX.Element {
  return <td className={`${FIGURE} ${className}`.trim()} {...rest} />;
}

/** The head of a column of figures. */
export function FigureHead(props: ComponentProps<'th'>): JSX.Element {
  return <th className={FIGURE} {...props} />;
}

/** The cell that takes what room is left, and is cut there. */
export function WideCell({ className = '', ...rest }: ComponentProps<'td'>): JSX.Element {
  return <td className={`${WIDE} ${className}`.trim()} {...rest} />;
}
