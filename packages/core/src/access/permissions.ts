/** What a person may be allowed to do; a role is made of these. `of` says where it can be given. */
export const PERMISSIONS = {
  'site.read': 'see sites, environments, forecasts, transfers and change requests',
  'site.manage': 'bring sites in, and set their profile, classes and lanes',
  'copy.work': 'move things between copies: push onto staging, bring news in, reset',
  'copy.manage': 'make, rename, describe and remove copies',
  'live.deliver': 'write onto live, and take a transfer onto live back',
  'live.urgent': 'write onto live past approval and claims, with a reason',
  'live.values': 'see personal values of live as they are',
  'secret.read': 'see logins',
  'snapshot.manage': 'take, check and remove snapshots',
  'request.open': 'open change requests and answer in them',
  'request.comment': 'comment on change requests',
  'preview.make': 'make, refresh and remove previews of change requests',
  'request.review': 'give a verdict on a change request',
  'guest.invite': 'invite guests by links to previews and variants, and end these',
  'window.manage': 'set windows and freezes',
  'window.override': 'deliver outside a window or in a freeze, with a reason',
  'server.manage': 'add servers',
  'people.manage': 'invite people, give them roles, end their access',
  'role.manage': 'make roles',
  'journal.read': 'read, export and verify the journal',
  'webhook.manage': 'set up webhooks',
} as const;

/** The name of one of {@link PERMISSIONS}. */
export type Permission = keyof typeof PERMISSIONS;

/** Whether a text names a permission. */
export const isPermission = (text: string): text is Permission => Object.hasOwn(PERMISSIONS, text);

const EVERY = Object.keys(PERMISSIONS) as Permission[];

/** A named set of permissions, which is given to people somewhere. */
export interface Role {
  readonly name: string;
  readonly title: string;
  readonly permissions: readonly Permission[];
}

/** The roles that every installation has; others are made of the same permissions. */
export const READY_ROLES: readonly Role[] = [
  { name: 'administrator', title: 'Administrator', permissions: EVERY },
  {
    name: 'operations',
    title: 'Operations',
    permissions: EVERY.filter((one) => one !== 'people.manage' && one !== 'role.manage'),
  },
  {
    name: 'developer',
    title: 'Developer',
    permissions: [
      'site.read',
      'copy.work',
      'copy.manage',
      'secret.read',
      'snapshot.manage',
      'request.open',
      'request.comment',
      'preview.make',
      'request.review',
      'guest.invite',
    ],
  },
  {
    name: 'editor',
    title: 'Editor',
    permissions: ['site.read', 'copy.work', 'request.open', 'request.comment', 'preview.make', 'guest.invite'],
  },
  {
    name: 'reviewer',
    title: 'Reviewer',
    permissions: ['site.read', 'request.comment', 'preview.make', 'request.review', 'guest.invite'],
  },
  { name: 'observer', title: 'Observer', permissions: ['site.read'] },
];
