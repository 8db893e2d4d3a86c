/**
 * What attacks are counted by: chapters of the OWASP Application Security Verification Standard 4.0.3, level 2, in the order
 * of the standard, with what belongs to each here.
 */
export const CHAPTERS: Readonly<Record<string, readonly string[]>> = {
  'V2 authentication': ['passwords'],
  'V3 sessions': ['passes'],
  'V4 access control': ['permissions', 'bringing in'],
  'V5 validation, encoding and sandboxes': ['input', 'redirects', 'schemas', 'tasks', 'hostile sites'],
  'V6 cryptography at rest': ['keys'],
  'V7 errors and logs': ['errors'],
  'V11 business logic and its limits': ['limits', 'deaths'],
  'V12 files and resources': ['files exchanged', 'memory'],
  'V13 and V14 HTTP, interfaces and servers': [
    'requests',
    'copies behind real web servers',
    'hostile web server',
    'fuzzed',
  ],
};
