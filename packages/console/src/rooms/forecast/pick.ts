/** What one of some ways looks like, apart from its border. */
export const PICK =
  'flex min-h-28 items-center gap-8 rounded-sm border bg-slab px-6 py-2 text-left hover:border-ink2 touch:min-h-44';
