/** Where a request is previewed: one place for as long as it is open, so that its address stays. */
export const previewPath = ({ site, id }: { readonly site: string; readonly id: string }): string =>
  `${site}/preview-${id.slice(id.indexOf('-') + 1)}`;
