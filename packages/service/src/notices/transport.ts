import { createTransport, type Transporter } from 'nodemailer';
import type { MailSettings } from './mail-settings.js';

/** How long whoever sends something keeps others from it; a worker that dies over a mail holds it for as long. */
export const LEASE_MS = 5 * 60_000;

/** Waits for a mail server, in milliseconds: all of them together end before the lease does, or it would go twice. */
const WAITS = { dnsTimeout: 10_000, connectionTimeout: 20_000, greetingTimeout: 20_000, socketTimeout: 30_000 };

/** The way to a mail server. What its address says of waits holds. */
export function openTransport({ url, from }: MailSettings): Transporter {
  const address = new URL(url);
  for (const [name, wait] of Object.entries(WAITS))
    if (!address.searchParams.has(name)) address.searchParams.set(name, String(wait));
  return createTransport(address.href, { from });
}
