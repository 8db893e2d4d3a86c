import fc from 'fast-check';

export { describe, expect, it } from 'vitest';
export { fc };
