import { describe, expect, it } from 'vitest';
import { personalValues } from '../src/mask/personal-values.js';

describe('values of a column, whatever it is called', () => {
  it.each([
    ['mail addresses', ['ingrid@post.example', 'odd@post.example', 'by telephone']],
    ['internet addresses', ['192.0.2.7', '2001:db8::17', '198.51.100.3']],
    ['phone numbers', ['+47 22 31 40 15', '(022) 314 0157', '+4722314015']],
    ['names of people', ['Anna']],
    ['names of people', ['Aud Lindgren', 'Ludwig van der Berg', "Siobhán O'Neill", 'Jean-Luc']],
    ['names of people', ['Ingrid Solheim', 'Odd Rye', 'Vera Lund', 'Ida Moe', 'a wholesaler']],
  ] as const)('look like %s', (kind, samples) => {
    expect(personalValues(samples, true)).toBe(kind);
  });

  it.each([
    ['nothing', []],
    ['blanks', ['', ' ']],
    ['states', ['Paid', 'Open', 'Paid', 'Paid', 'Open', 'Paid']],
    ['sentences', ['Lovely throw', 'Fits well', 'Too small']],
    ['days', ['2026-11-30', '2026-12-01']],
    ['moments', ['2026-11-30 18:00:00', '2026-12-01 09:30:00']],
    ['numbers', ['1000231', '1000232']],
    ['prices', ['34.00', '89.00']],
    ['routes', ['Pier – Holm', 'Holm – Pier']],
    ['times of day', ['09:30', '17:45']],
    ['hashes', ['a9f0c1d2e3b4', '00ff']],
    ['links', ['https://threadmill.example/order/17']],
  ])('that are %s are of nobody', (_what, samples) => {
    expect(personalValues(samples, true)).toBeUndefined();
  });

  it('with capitals are titles where no visitor wrote them, and mail addresses everywhere', () => {
    expect(personalValues(['Market Bag', 'Home', 'Contact'], false)).toBeUndefined();
    expect(personalValues(['ida@copperlane.example'], false)).toBe('mail addresses');
  });
});
