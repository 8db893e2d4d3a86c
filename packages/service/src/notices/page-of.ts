/** The console's page that a notice is about: a request, a transfer, or the site whose guest spoke. */
export const pageOf = (
  consoleUrl: string,
  {
    request_id,
    transfer_id,
    site,
    item = null,
  }: {
    readonly request_id: string | null;
    readonly transfer_id: string | null;
    readonly site: string;
    readonly item?: string | null;
  },
): string =>
  transfer_id !== null
    ? `${consoleUrl}/transfers/${transfer_id}`
    : request_id === null
      ? `${consoleUrl}/sites/${site}`
      : `${consoleUrl}/requests/${request_id}${item === null ? '' : `?item=${encodeURIComponent(item)}`}`;
