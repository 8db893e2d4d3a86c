import { z } from 'zod';
import { edit, endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { none, nothing, onEnvironment, onSite } from './inputs.js';

/** Profiles and parts: listing, proposing, saving, using, classifying what was found. */
export const profilesEndpoints = {
  profileList: endpoint({
    method: 'GET',
    path: '/profiles',
    permission: 'site.read',
    about: 'listed',
    summary: 'List the profiles in their newest versions.',
    params: nothing,
    query: nothing,
    body: none,
    response: z.array(s.ProfileVersion),
  }),
  profileShow: endpoint({
    method: 'GET',
    path: '/profiles/:name',
    permission: 'site.read',
    about: 'listed',
    summary: 'Show a profile.',
    params: z.object({ name: s.Name }),
    query: z.strictObject({ version: z.coerce.number().int().optional() }),
    body: none,
    response: s.ProfileVersion.extend({ text: z.string() }),
  }),
  profileSave: edit({
    method: 'PUT',
    path: '/profiles/:name',
    permission: 'site.manage',
    about: 'installation',
    costs: 5,
    summary: 'Save a new version of a profile.',
    params: z.object({ name: s.Name }),
    query: nothing,
    body: z.strictObject({ text: z.string().max(500_000) }),
    response: s.ProfileVersion,
  }),
  profileEffective: endpoint({
    method: 'GET',
    path: '/profiles/:name/effective',
    permission: 'site.read',
    about: 'listed',
    summary: 'Show a profile as it is composed, with the part behind each rule.',
    params: z.object({ name: s.Name }),
    query: nothing,
    body: none,
    response: z.object({
      name: z.string(),
      layers: z.array(z.object({ name: z.string(), version: z.number().int() })),
      text: z.string(),
      rules: z.array(z.object({ path: z.string(), from: z.array(z.string()) })),
    }),
  }),
  profileStart: endpoint({
    method: 'POST',
    path: '/environments/:site/:environment/profile-starts',
    permission: 'site.manage',
    about: { environments: ['params.site/params.environment'] },
    isAct: false,
    costs: 100,
    summary:
      'Read a site and write a first profile of it, each rule with its reason and how sure it is. Nothing is saved.',
    params: onEnvironment,
    query: nothing,
    body: z.strictObject({ name: s.Name.optional(), title: z.string().min(1).max(120).optional() }),
    response: z.object({
      name: z.string(),
      text: z.string(),
      findings: z.array(
        z.object({
          what: z.string(),
          says: z.string(),
          certainty: z.enum(['sure', 'likely', 'open']),
          reason: z.string(),
        }),
      ),
    }),
  }),
  profileUse: edit({
    method: 'PUT',
    path: '/sites/:site/profile',
    permission: 'site.manage',
    about: { site: 'params.site' },
    summary: 'Give a site another profile.',
    params: onSite,
    query: nothing,
    body: z.strictObject({ profile: s.Name }),
    response: s.Site,
  }),
  profileClassify: endpoint({
    method: 'POST',
    path: '/sites/:site/classes',
    permission: 'site.manage',
    about: { site: 'params.site' },
    summary:
      "Give a table a class in a new version of the site's profile, for which each site that it reaches must be one's to manage; a trial names them.",
    params: onSite,
    query: nothing,
    body: z.strictObject({
      database: s.Name.optional(),
      table: z.string().min(1).max(200),
      class: s.DataClass,
      trial: z.boolean().optional(),
      /** The table's name, where collected or local data would become authored. */
      confirm: z.string().max(200).optional(),
    }),
    response: z.object({
      profile: z.string(),
      version: z.number().int(),
      /** Those that the caller may see. */
      sites: z.array(z.string()),
      /** Whether the profile reaches others besides. */
      reachesOthers: z.boolean(),
      database: z.string(),
      table: z.string(),
      before: s.DataClass,
      class: s.DataClass,
      isSaved: z.boolean(),
    }),
  }),
} as const;
