const HERE = 'http://console.invalid';

/** A path of the console, and nothing that a browser would take for another site: neither `//` nor what becomes it. */
export function ownPath(wanted: string | undefined): string {
  const to = URL.canParse(wanted ?? '/', HERE) ? new URL(wanted ?? '/', HERE) : undefined;
  return to?.origin === HERE && !to.pathname.startsWith('//') ? `${to.pathname}${to.search}${to.hash}` : '/';
}
