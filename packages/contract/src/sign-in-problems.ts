/** Why somebody who went to a provider came back without being signed in; the address holds the code alone. */
export const SIGN_IN_PROBLEMS = {
  away: 'You were away too long, or did not begin here. Sign in once more.',
  'not-reached': 'The provider does not answer. Sign in with mail and password, or try again later.',
  'another-account':
    'Your mail address belongs to another account of the provider here. Ask an administrator to invite you again.',
  'not-vouched': 'The provider did not vouch for you. Sign in once more.',
  'no-mail': 'The provider does not say that your mail address is yours. Ask an administrator to invite you.',
  unknown: 'Nobody here has your mail address. Ask an administrator to invite you.',
} as const;
/** Why signing in by a provider failed, as the page's address says it. */
export type SignInProblem = keyof typeof SIGN_IN_PROBLEMS;

/** Whether a word from an address is one of {@link SIGN_IN_PROBLEMS}. */
export const isSignInProblem = (code: string): code is SignInProblem => Object.hasOwn(SIGN_IN_PROBLEMS, code);
