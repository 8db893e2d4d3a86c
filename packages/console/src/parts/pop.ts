/** What a menu looks like, and what stands in it. */
export const POP = 'z-30 grid min-w-200 rounded-sm bg-slab p-4 shadow-pop outline-0';
/** An act in a menu. */
export const POP_ITEM =
  'flex min-h-32 w-full items-center justify-between gap-6 px-10 text-left data-focus:bg-accent-tint data-focus:text-accent touch:min-h-44';
