import { useQuery } from '@tanstack/react-query';
import type { ChangeRequest, Site } from '@tessarion/contract';
import type { JSX } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../../keys.js';
import { placeOf, useMay } from '../../may.js';
import { ButtonLink, TextLink } from '../../parts/button.js';
import { Icon } from '../../parts/icon.js';
import { Crumb } from '../../parts/room.js';
import { Unread } from '../../parts/states.js';
import { useAt } from '../../parts/use-view.js';
import { client, useSite } from '../../session.js';
import { SiteAside } from './aside.js';
import { Detail } from './environment.js';
import { forecastLink, KINDS, SiteMap } from './map.js';

/** A site: its environments and the lanes between them, and what one may do with the one at hand. */
export function SiteRoom(): JSX.Element {
  const { site: name = '' } = useParams();
  const site = useSite(name);
  if (!site.isSuccess) return <Unread error={site.error} what={`Reading ${name}`} />;
  return <SiteShown site={site.data} />;
}

function SiteShown({ site }: { readonly site: Site }): JSX.Element {
  const [, setQuery] = useSearchParams();
  const [chosen, choose] = useAt('at', (name) => setQuery(name === undefined ? {} : { at: name }, { replace: true }));
  const at = site.environments.find((one) => one.name === chosen) ?? site.environments[0];
  const navigate = useNavigate();
  const onTheirWay = useOnTheirWay(site.name);
  const requests = onTheirWay ?? [];
  const order = KINDS.flatMap((kind) => site.environments.filter((one) => one.kind === kind));
  const move = (step: number): void => {
    const next = order[Math.min(order.length - 1, Math.max(0, order.findIndex((one) => one.path === at?.path) + step))];
    if (next) choose(next.name);
  };
  useKeys([
    { key: 'j', does: 'Next environment', act: () => move(1) },
    { key: 'k', does: 'Previous environment', act: () => move(-1) },
    {
      key: 'f',
      does: 'Forecast',
      act: () => at !== undefined && at.kind !== 'live' && void navigate(forecastLink(site, at)),
    },
    { key: 't', does: 'Timeline', act: () => void navigate(`/sites/${site.name}/timeline`) },
    { key: 'c', does: 'New copy', act: () => void navigate(`/sites/${site.name}/new`) },
    { key: 'Escape', does: 'Back to the fleet', act: () => void navigate('/') },
  ]);
  const may = useMay();
  return (
    <>
      <Crumb way={[['Fleet', '/']]} here={site.name}>
        <span className="truncate text-ink2">{site.client}</span>
        <span className="flex-1 max-desk:hidden" />
        <span className="truncate text-ink3 max-desk:hidden">
          {site.profile ? (
            <TextLink to={`/profiles/${site.profile}`}>
              {site.profile} version {site.profileVersion}
            </TextLink>
          ) : (
            'No profile'
          )}
        </span>
        <ButtonLink small className="max-desk:hidden" to={`/sites/${site.name}/timeline`}>
          Timeline
        </ButtonLink>
        <ButtonLink
          small
          may={may('environmentCreate', placeOf(site))}
          className="max-desk:hidden"
          to={`/sites/${site.name}/new`}
        >
          <Icon name="plus" /> New copy
        </ButtonLink>
      </Crumb>
      <main className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_264px] grid-rows-[auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:overflow-auto">
        <SiteMap site={site} at={at?.path} requests={requests} choose={choose} />
        {at && <Detail key={at.path} site={site} one={at} requests={requests} />}
        <SiteAside site={site} requests={onTheirWay} />
      </main>
    </>
  );
}

/** Requests that are open for a site, newest first; undefined until they are read. */
function useOnTheirWay(site: string): readonly ChangeRequest[] | undefined {
  const requests = useQuery({
    queryKey: ['requests', 'on its way', site],
    queryFn: () => client.call('requestList', { query: { site, open: 'yes', limit: 100 } }),
  });
  return requests.isError ? [] : requests.data?.items;
}
