import { type EndpointName, type Environment, endpoints, type Site } from '@tessarion/contract';
import { type Actor, type Decision, decide, type Permission, readScope, type Thing } from '@tessarion/core';
import { useMemo } from 'react';
import { useMe } from './session.js';

/** A site, or an environment of it. */
export interface Place {
  readonly client: string;
  readonly site: string;
  readonly environment?: Pick<Environment, 'path' | 'kind'> | undefined;
}

/** Where something is to be done, as permissions are given for it. */
export const placeOf = (site: Pick<Site, 'name' | 'client'>, environment?: Place['environment']): Place => ({
  client: site.client,
  site: site.name,
  environment,
});

const ALLOWED: Decision = { allowed: true, role: '' };

/**
 * Whether who looks may call something of the interface on an environment, decided as the service does: what one may not
 * do is said before it is tried. Until that is known nothing is locked.
 */
export function useMay(): (act: EndpointName, place: Place | undefined) => Decision {
  const me = useMe().data;
  const actor = useMemo(
    (): Actor | undefined =>
      me && {
        person: me.id,
        isActive: true,
        grants: me.grants.map((one) => ({ ...one, scope: readScope(one.scope) })),
        token: undefined,
      },
    [me],
  );
  return (act, place) => {
    if (!actor || !place) return ALLOWED;
    const { client, site, environment } = place;
    const thing: Thing = environment
      ? { is: 'environment', client, site, environment: environment.path, kind: environment.kind }
      : { is: 'site', client, site };
    const { permission, onLive } = endpoints[act] as { permission: Permission; onLive?: Permission };
    return decide(actor, environment?.kind === 'live' && onLive !== undefined ? onLive : permission, thing);
  };
}
