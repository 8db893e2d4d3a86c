import { describe, expect, test } from 'vitest';
import { isPrivateAddress, signedContent, WEBHOOK_BACK_OFF } from '../src/index.js';

describe('an address', () => {
  test.each([
    '127.0.0.1',
    '0.0.0.0',
    '10.1.2.3',
    '172.16.0.1',
    '172.31.255.255',
    '192.168.1.1',
    '169.254.169.254',
    '100.64.0.1',
    '198.18.0.1',
    '224.0.0.1',
    '255.255.255.255',
    '::1',
    '::',
    '::ffff:10.0.0.1',
    '::ffff:127.0.0.1',
    'fe80::1',
    'fc00::1',
    'fd12:3456::1',
    'ff02::1',
    '64:ff9b::a00:1',
    '2001:db8::1',
    '2002:7f00:1::',
    '2001:0:4136:e378::',
    'localhost',
    '',
    '999.1.1.1',
  ])('%s is private', (address) => {
    expect(isPrivateAddress(address)).toBe(true);
  });

  test.each(['8.8.8.8', '1.1.1.1', '172.32.0.1', '192.169.0.1', '100.128.0.1', '2a00:1450:4001::1', '2606:4700::1111'])(
    '%s is public',
    (address) => {
      expect(isPrivateAddress(address)).toBe(false);
    },
  );
});

test('what is signed is the id, the time and the body', () => {
  expect(signedContent('w-1', 1_700_000_000, '{"a":1}')).toBe('w-1.1700000000.{"a":1}');
  expect([...WEBHOOK_BACK_OFF].sort((a, b) => a - b)).toEqual([...WEBHOOK_BACK_OFF]);
});
