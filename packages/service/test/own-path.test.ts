import fc from 'fast-check';
import { expect, it } from 'vitest';
import { tried } from '../../../tests/attacks/tried.js';
import { ownPath } from '../src/http/own-path.js';

const CONSOLE = 'https://console.example';

it.each([
  '//elsewhere.example',
  '/..//elsewhere.example',
  '/.//elsewhere.example/x',
  '/a/../..//elsewhere.example',
  '/\\elsewhere.example',
  '\\\\elsewhere.example',
  '/%2e%2e//elsewhere.example',
  '/\t/elsewhere.example',
  'https://elsewhere.example',
  'javascript:alert(1)',
  'http:///elsewhere.example',
])('%s leads nowhere else', (wanted) => {
  tried('redirects');
  expect(new URL(ownPath(wanted), CONSOLE).origin).toBe(CONSOLE);
});

it('leads to paths of the console as they are, and never elsewhere', () => {
  for (const path of ['/', '/sites/threadmill?at=staging#x', '/requests?view=all']) expect(ownPath(path)).toBe(path);
  const part = fc.constantFrom('/', '\\', '.', '..', 'elsewhere.example', ':', '@', '?', '#', '%2e', '\t', 'http:');
  fc.assert(
    fc.property(fc.array(part, { maxLength: 8 }), (parts) => {
      expect(new URL(ownPath(parts.join('')), CONSOLE).origin).toBe(CONSOLE);
    }),
    { numRuns: 3000 },
  );
});
