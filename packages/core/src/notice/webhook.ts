/** What is announced to other programs; each is the `type` of a CloudEvents 1.0 body. */
export const ANNOUNCED = [
  'tessarion.request.review-asked',
  'tessarion.request.approved',
  'tessarion.request.scheduled',
  'tessarion.request.blocked',
  'tessarion.request.delivered',
  'tessarion.request.undone',
  'tessarion.request.withdrawn',
  'tessarion.transfer.done',
  'tessarion.transfer.failed',
] as const;
/** The type of an event that webhooks are told of. */
export type Announced = (typeof ANNOUNCED)[number];

/** Whether webhooks can be told of a type of event. */
export const isAnnounced = (type: string): type is Announced => (ANNOUNCED as readonly string[]).includes(type);

/** Something that happened, as a CloudEvents 1.0 document in JSON (structured mode). */
export interface CloudEvent {
  readonly specversion: '1.0';
  readonly id: string;
  readonly source: string;
  readonly type: Announced;
  readonly subject: string;
  /** RFC 3339, UTC. */
  readonly time: string;
  readonly datacontenttype: 'application/json';
  readonly data: Readonly<Record<string, unknown>>;
}

/** What is signed of a webhook: `id.timestamp.body` (Standard Webhooks 1.0.0, Signature scheme). */
export const signedContent = (id: string, timestamp: number, body: string): string => `${id}.${timestamp}.${body}`;

/**
 * Whether an address leads to this machine or into a private network, where a webhook must not reach unless it is
 * allowed: RFC 6890's special-purpose blocks, with IPv4 inside IPv6. What is no address counts as private.
 */
export function isPrivateAddress(address: string): boolean {
  const v4 = /^(?:::ffff:)?(\d{1,3})\.(\d{1,3})\.(\d{1,3})\.(\d{1,3})$/i.exec(address);
  if (v4) {
    const [a, b, c, d] = v4.slice(1).map(Number) as [number, number, number, number];
    if ([a, b, c, d].some((part) => part > 255)) return true;
    return (
      a === 0 ||
      a === 10 ||
      a === 127 ||
      a >= 224 ||
      (a === 100 && b >= 64 && b < 128) ||
      (a === 169 && b === 254) ||
      (a === 172 && b >= 16 && b < 32) ||
      (a === 192 && b === 168) ||
      (a === 192 && b === 0 && (c === 0 || c === 2)) ||
      (a === 198 && (b === 18 || b === 19)) ||
      (a === 198 && b === 51 && c === 100) ||
      (a === 203 && b === 0 && c === 113)
    );
  }
  if (!/^[0-9a-f:.]+$/i.test(address) || !address.includes(':')) return true;
  const first = Number.parseInt(address.split(':')[0] || '0', 16);
  // Global unicast is 2000::/3; of that, documentation and tunnels that hold other addresses are not reached.
  const isGlobal = first >= 0x2000 && first <= 0x3fff;
  const second = Number.parseInt(address.split(':')[1] || '0', 16);
  return !isGlobal || first === 0x2002 || (first === 0x2001 && (second === 0xdb8 || second < 0x200));
}

/** Waits between tries, in seconds; after the last one nothing is tried any more. */
export const WEBHOOK_BACK_OFF = [5, 30, 120, 600, 3600, 6 * 3600, 24 * 3600] as const;
