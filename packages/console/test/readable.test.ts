import { describe, expect, it } from 'vitest';
import { readable, readsAlike } from '../src/rooms/forecast/readable.js';

describe('a value read by people', () => {
  it('keeps every digit of an amount', () => {
    expect(readable('money', '1234567.50', false)).toBe('1,234,567.50');
    expect(readable('money', '-90071992547409931.10', false)).toBe('-90,071,992,547,409,931.10');
    expect(readable('money', 'on request', false)).toBe('on request');
  });

  it('has a time zone only where one was written', () => {
    expect(readable('moment', '2026-11-29 08:15:00', false)).toBe('2026-11-29 08:15:00');
    expect(readable('moment', '2026-11-29 08:15:00+00', false)).not.toBe('2026-11-29 08:15:00+00');
    expect(readable('moment', '2026-11-29 08:15:00+00', false)).toBe(
      readable('moment', '2026-11-29T09:15:00+01:00', false),
    );
  });

  it('is as it is written where it would be read like another one', () => {
    const field = { name: 'at', base: null, source: '2026-11-29 08:15:00+00', before: '2026-11-29 09:15:00+01' };
    const one = { ...field, after: null, show: 'moment' } as Parameters<typeof readsAlike>[0];
    expect(readsAlike(one)).toBe(true);
    expect(readsAlike({ ...one, before: '2026-11-29 09:16:00+01' })).toBe(false);
  });
});
