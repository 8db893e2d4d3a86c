import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as g from '../guest-shapes.js';
import * as s from '../shapes.js';
import { Mail } from './access.js';
import { byId, none, nothing, onSite } from './inputs.js';

const Words = z.string().trim().min(1, 'say something').max(5000);
const atLook = z.object({ position: z.coerce.number().int().min(0).max(20) });
const guest = { guest: 'params.id' } as const;

/** Links for guests, and what guests do with them. */
export const guestsEndpoints = {
  guestList: endpoint({
    method: 'GET',
    path: '/sites/:site/guests',
    permission: 'site.read',
    about: { site: 'params.site' },
    summary: "List a site's guests, the newest first: what they look at, said and chose.",
    params: onSite,
    query: z.strictObject({ request: s.Id.optional() }),
    body: none,
    response: z.array(g.GuestLink),
  }),
  guestInvite: endpoint({
    method: 'POST',
    path: '/sites/:site/guests',
    permission: 'guest.invite',
    about: { site: 'params.site' },
    costs: 100,
    summary: 'Make a link for somebody without an account; it is shown once, and mailed where a mail address is given.',
    params: onSite,
    query: nothing,
    body: z.strictObject({
      name: z.string().trim().min(1, 'say who it is for').max(100),
      mail: Mail.optional(),
      words: z.string().max(5000).optional(),
      /** How long it holds. */
      days: z.number().int().min(1).max(90).optional(),
      passcode: z.string().min(6, 'use at least 6 characters').max(100).optional(),
      looks: z
        .array(
          z.strictObject({
            request: s.Id.optional(),
            environment: s.EnvironmentPath.optional(),
            title: z.string().trim().min(1).max(200).optional(),
          }),
        )
        .min(1, 'name what there is to look at')
        .max(10),
    }),
    response: z.object({ link: g.GuestLink, url: z.string(), isMailed: z.boolean() }),
    status: 201,
  }),
  guestEnd: endpoint({
    method: 'DELETE',
    path: '/guests/:id',
    permission: 'guest.invite',
    about: guest,
    summary: "End a guest's link at once; their yes counts no more.",
    params: byId,
    query: nothing,
    body: none,
    response: g.GuestLink,
  }),
  guestAnswer: endpoint({
    method: 'POST',
    path: '/guests/:id/answers',
    permission: 'request.comment',
    about: guest,
    costs: 50,
    summary: 'Answer what a guest said about a variant.',
    params: byId,
    query: nothing,
    body: z.strictObject({ thread: s.Id, text: Words }),
    response: g.GuestLink,
    status: 201,
  }),

  guestEnter: endpoint({
    method: 'POST',
    path: '/guest/sessions',
    permission: 'open',
    about: 'own',
    summary: "Come in by a guest's link; sets the guest's cookie.",
    params: nothing,
    query: nothing,
    body: z.strictObject({ key: z.string().max(200), passcode: z.string().max(100).optional() }),
    response: g.GuestRoom,
  }),
  guestRoom: endpoint({
    method: 'GET',
    path: '/guest',
    permission: 'guest',
    about: 'own',
    summary: 'What a guest may look at, and what was said.',
    params: nothing,
    query: nothing,
    body: none,
    response: g.GuestRoom,
  }),
  guestOpen: endpoint({
    method: 'POST',
    path: '/guest/looks/:position/enter',
    permission: 'guest',
    about: 'own',
    summary: 'Make a one-time link past the gate of a preview or variant.',
    params: atLook,
    query: nothing,
    body: none,
    response: z.object({ url: z.string() }),
  }),
  guestSay: endpoint({
    method: 'POST',
    path: '/guest/looks/:position/comments',
    permission: 'guest',
    about: 'own',
    costs: 20,
    summary: 'Comment on what one looks at, or reply.',
    params: atLook,
    query: nothing,
    body: z.strictObject({ text: Words, thread: s.Id.optional() }),
    response: g.GuestRoom,
    status: 201,
  }),
  guestApprove: endpoint({
    method: 'POST',
    path: '/guest/looks/:position/yes',
    permission: 'guest',
    about: 'own',
    summary: 'Say yes to what a preview shows.',
    params: atLook,
    query: nothing,
    body: z.strictObject({ revision: z.number().int().min(1) }),
    response: g.GuestRoom,
  }),
  guestChoose: endpoint({
    method: 'PUT',
    path: '/guest/choice',
    permission: 'guest',
    about: 'own',
    summary: 'Choose one of several.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ position: z.number().int().min(0).max(20) }),
    response: g.GuestRoom,
  }),
} as const;
