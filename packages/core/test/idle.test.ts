import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { CLAIM_DAYS, idleStep, WARNING_DAYS } from '../src/index.js';

const DAY = 86_400_000;

describe('a request that lies still', () => {
  test.each([
    ['freshly touched', 0, undefined, 'none'],
    ['before the warning', CLAIM_DAYS - WARNING_DAYS - 0.1, undefined, 'none'],
    ['when it is time to warn', CLAIM_DAYS - WARNING_DAYS, undefined, 'warn'],
    ['warned, and not over yet', CLAIM_DAYS - 0.1, CLAIM_DAYS - WARNING_DAYS, 'none'],
    ['warned, and over', CLAIM_DAYS, CLAIM_DAYS - WARNING_DAYS, 'lapse'],
    ['warned late, since nobody was there to warn', 40, 39, 'none'],
    ['warned late, and over', 42, 39, 'lapse'],
    ['touched since it was warned', CLAIM_DAYS - WARNING_DAYS, -1, 'warn'],
  ] as const)('%s', (_name, days, warnedAfter, step) => {
    const warned = warnedAfter === undefined ? undefined : warnedAfter * DAY;
    expect(idleStep(0, warned, days * DAY)).toBe(step);
  });

  test('never loses its claims before its author had the days of the warning', () => {
    const time = fc.integer({ min: 0, max: 100 * DAY });
    fc.assert(
      fc.property(time, fc.array(fc.integer({ min: 1, max: 5 * DAY }), { maxLength: 60 }), (lastAct, steps) => {
        let [now, warned] = [lastAct, undefined as number | undefined];
        for (const step of steps) {
          now += step;
          const what = idleStep(lastAct, warned, now);
          if (what === 'warn') warned = now;
          if (what !== 'lapse') continue;
          expect(warned).toBeDefined();
          expect(now - (warned as number)).toBeGreaterThanOrEqual(WARNING_DAYS * DAY);
          expect(now - lastAct).toBeGreaterThanOrEqual(CLAIM_DAYS * DAY);
          return;
        }
        expect(now - lastAct).toBeLessThan((CLAIM_DAYS + 5 + WARNING_DAYS + 5) * DAY);
      }),
    );
  });
});
