import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { byId, none, nothing } from './inputs.js';

/** A mail address. */
export const Mail = z.email('write a mail address').max(200);
/** A password that somebody chooses. */
export const Password = z.string().min(12, 'use at least 12 characters').max(200);

const SecondFactor = z.object({
  isOn: z.boolean(),
  since: s.Time.nullable(),
  /** How many are left. */
  recoveryCodes: z.number().int(),
});

/** Signing in, sessions, passwords, second factors and tokens. */
export const accessEndpoints = {
  signIn: endpoint({
    method: 'POST',
    path: '/sign-in',
    permission: 'open',
    about: 'own',
    summary: 'Sign in with mail and password; sets the session cookie.',
    params: nothing,
    query: nothing,
    body: z.strictObject({
      mail: z.string().max(200),
      password: z.string().max(200),
      /** Of the second factor, or for recovery; asked for where somebody has one. */
      code: z.string().max(40).optional(),
    }),
    response: s.Person,
  }),
  signOut: endpoint({
    method: 'POST',
    path: '/sign-out',
    permission: 'signed-in',
    about: 'own',
    summary: 'End the session.',
    params: nothing,
    query: nothing,
    body: none,
    response: none,
    status: 204,
  }),
  me: endpoint({
    method: 'GET',
    path: '/me',
    permission: 'signed-in',
    about: 'own',
    summary: 'Who is signed in, and what they may do.',
    params: nothing,
    query: nothing,
    body: none,
    response: s.Me,
  }),
  signInWays: endpoint({
    method: 'GET',
    path: '/sign-in-ways',
    permission: 'open',
    about: 'own',
    summary: 'How one may sign in, beside mail and password.',
    params: nothing,
    query: nothing,
    body: none,
    response: z.object({
      /** What the OpenID provider is called; null where none is set up. */
      provider: z.string().nullable(),
    }),
  }),
  factorShow: endpoint({
    method: 'GET',
    path: '/second-factor',
    permission: 'signed-in',
    about: 'own',
    summary: 'Whether one is asked for a second factor.',
    params: nothing,
    query: nothing,
    body: none,
    response: SecondFactor,
  }),
  factorBegin: endpoint({
    method: 'POST',
    path: '/second-factor',
    permission: 'signed-in',
    about: 'own',
    costs: 25,
    summary: 'Make the secret of a second factor by time-based codes; it is shown once, and not asked for yet.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ password: z.string().max(200) }),
    response: z.object({
      secret: z.string(),
      uri: z.string(),
      /** The same as a picture to be scanned: SVG. */
      picture: z.string(),
    }),
    status: 201,
  }),
  factorConfirm: endpoint({
    method: 'PUT',
    path: '/second-factor',
    permission: 'signed-in',
    about: 'own',
    summary: 'Show with a first code that it works: it is asked for from now on. Recovery codes are shown once.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ code: z.string().max(40) }),
    response: SecondFactor.extend({ codes: z.array(z.string()) }),
  }),
  factorCodes: endpoint({
    method: 'POST',
    path: '/second-factor/recovery-codes',
    permission: 'signed-in',
    about: 'own',
    summary: 'Make recovery codes anew; former ones end.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ code: z.string().max(40) }),
    response: SecondFactor.extend({ codes: z.array(z.string()) }),
    status: 201,
  }),
  factorEnd: endpoint({
    method: 'POST',
    path: '/second-factor/end',
    permission: 'signed-in',
    about: 'own',
    summary: 'Be asked for no second factor any more.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ code: z.string().max(40) }),
    response: SecondFactor,
  }),
  firstAdministrator: endpoint({
    method: 'POST',
    path: '/first-administrator',
    permission: 'open',
    about: 'own',
    summary: 'Make the first administrator, with the one-time key that the service printed.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ key: z.string(), name: z.string().min(1).max(120), mail: Mail, password: Password }),
    response: s.Person,
    status: 201,
  }),
  tokenList: endpoint({
    method: 'GET',
    path: '/tokens',
    permission: 'signed-in',
    about: 'own',
    summary: "List one's own tokens.",
    params: nothing,
    query: nothing,
    body: none,
    response: z.array(s.Token),
  }),
  tokenCreate: endpoint({
    method: 'POST',
    path: '/tokens',
    permission: 'signed-in',
    about: 'own',
    summary: 'Make a token; its value is shown once.',
    params: nothing,
    query: nothing,
    body: z.strictObject({
      name: z.string().min(1).max(120),
      /** How long it holds: 90 where nothing is said, null until it is ended. */
      days: z.number().int().min(1).max(3650).nullable().optional(),
      permissions: z.array(s.Permission).min(1).optional(),
      scope: s.ScopeText.optional(),
    }),
    response: s.Token.extend({ value: z.string() }),
    status: 201,
  }),
  tokenRemove: endpoint({
    method: 'DELETE',
    path: '/tokens/:id',
    permission: 'signed-in',
    about: 'own',
    summary: 'End a token.',
    params: byId,
    query: nothing,
    body: none,
    response: none,
    status: 204,
  }),
} as const;
