import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import { useMutation } from '@tanstack/react-query';
import type { ChangeRequest, Environment, Site } from '@tessarion/contract';
import type { JSX } from 'react';
import { placeOf, useMay } from '../../may.js';
import { Button, ButtonLink } from '../../parts/button.js';
import { CopyText } from '../../parts/copy-text.js';
import { Fact, Facts } from '../../parts/facts.js';
import { Icon } from '../../parts/icon.js';
import { clock } from '../../parts/moments.js';
import { RunningJob } from '../../parts/progress.js';
import { Failure } from '../../parts/states.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { useEnter } from '../../parts/use-enter.js';
import { Ago, number, size } from '../../parts/words.js';
import { client } from '../../session.js';
import { Description, Schedule, Siblings, Tags } from './copy-facts.js';
import { EnvironmentActs } from './environment-acts.js';
import { ItemHistory } from './item-history.js';
import { forecastLink } from './map.js';
import { Waiting } from './waiting.js';

/** The environment at hand: how it stands, what is known of it, and what one may do with it. */
export function Detail({
  site,
  one,
  requests,
}: {
  readonly site: Site;
  readonly one: Environment;
  /** Those that are open. */
  readonly requests: readonly ChangeRequest[];
}): JSX.Element {
  const { enter, error } = useEnter(one);
  const place = placeOf(site, one);
  const may = useMay();
  const acknowledge = useMutation({
    mutationFn: (id: string) => client.call('transferAcknowledge', { params: { id } }),
  });
  const failure = error ?? acknowledge.error ?? undefined;
  return (
    <section className="flex min-h-0 flex-col overflow-auto bg-slab" aria-label={one.path}>
      <header className="flex flex-wrap items-center gap-10 px-16 py-12">
        <Tile kind={one.kind} state={one.state} size={32} decorative />
        <h2 className="mono text-title">{one.path}</h2>
        <span className="truncate text-ink2" title={one.reason}>
          {one.reason === '' || one.state === 'failed' ? stateWord(one.state) : one.reason}
        </span>
        <span className="flex-1 max-desk:hidden" />
        <Button onClick={enter}>
          <Icon name="open" /> Open
        </Button>
        {one.kind !== 'live' && (
          <>
            <ButtonLink
              may={may('pullCreate', place)}
              to={`/sites/${site.name}/forecast?from=${site.name}/live&onto=${one.path}`}
              aria-disabled={one.state === 'working'}
            >
              Bring live’s news
            </ButtonLink>
            <ButtonLink main to={forecastLink(site, one)} aria-disabled={one.state === 'working'}>
              Forecast
            </ButtonLink>
          </>
        )}
      </header>
      {failure !== undefined && <Failure error={failure} />}
      {one.running && (
        <div className="px-16 pb-8">
          <RunningJob transfer={one.running} kinds={new Map(site.environments.map((e) => [e.path, e.kind]))} />
        </div>
      )}
      {one.state === 'failed' && one.last && (
        <div className="mx-16 my-12 border-l-3 border-danger bg-danger-tint px-14 py-10">
          <b>
            {one.last.kind} failed <Ago time={one.last.endedAt} suffix=" ago" />
          </b>
          <p className="mt-2 wrap-anywhere">{one.last.failure?.message}</p>
          <p className="mb-6 text-ink2">{one.last.failure?.next}</p>
          <ButtonLink to={`/transfers/${one.last.id}`}>What happened</ButtonLink>{' '}
          <Button onClick={() => acknowledge.mutate(one.last?.id ?? '')}>I have seen it</Button>
        </div>
      )}
      <First site={site} one={one} />
      <EnvironmentActs site={site} one={one} requests={requests} />
      <Waiting site={site} one={one} />
      <ItemHistory one={one} place={place} />
      <About site={site} one={one} />
    </section>
  );
}

/** What one comes for: where it answers, how one gets in, and what it is for. */
function First({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  return (
    <Facts>
      <Fact name="Address">
        {one.addresses.map((address) => (
          <span key={address.name} className="flex flex-wrap items-baseline gap-x-12">
            <a className="mono underline decoration-rim underline-offset-3 hover:text-accent" href={address.url}>
              {address.url}
            </a>
            <CopyText text={address.url} label={`the address ${address.url}`} />
          </span>
        ))}
      </Fact>
      {one.hasGate && (
        <Fact name="Gate">
          <Gate one={one} />
        </Fact>
      )}
      {one.kind !== 'live' && (
        <>
          <Fact name="What for">
            <Description one={one} />
          </Fact>
          <Siblings one={one} site={site} />
        </>
      )}
    </Facts>
  );
}

/** What nobody reads every day. */
function About({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  return (
    <Disclosure as="section" className="border-t border-line">
      <DisclosureButton className="flex min-h-36 w-full items-center gap-6 px-16 text-left font-semibold focus-visible:-outline-offset-2 touch:min-h-44">
        About {one.name}
        <Icon name="down" className="in-data-open:rotate-180" />
        <span className="truncate font-normal text-ink3">
          {one.server}
          {one.size && `, ${size(one.size.fileBytes + one.size.databaseBytes)}`}
        </span>
      </DisclosureButton>
      <DisclosurePanel>
        <Facts>
          <Fact name="Editors">{one.editorsUrl ? <span className="mono">{one.editorsUrl}</span> : '–'}</Fact>
          <Fact name="Made">
            {one.madeFrom ? (
              <>
                from <span className="mono">{one.madeFrom}</span>, {clock(one.madeAt)}
                {one.foreignOrigin !== null && !one.madeFrom.startsWith(one.foreignOrigin) && (
                  <>
                    ; holds the work of <span className="mono">{one.foreignOrigin}</span>
                  </>
                )}
              </>
            ) : (
              `brought in ${clock(one.madeAt)}`
            )}
          </Fact>
          {one.kind === 'live' ? (
            <Fact name="Tags">
              <Tags site={site} />
            </Fact>
          ) : (
            <>
              <Fact name="Up to date">
                <Ago time={one.refreshedAt} suffix=" ago" />
              </Fact>
              <Fact name="News comes">
                <Schedule one={one} zone={site.timeZone} />
              </Fact>
            </>
          )}
          <Fact name="Size">
            {one.size ? (
              <>
                <b>{size(one.size.fileBytes)}</b> in {number(one.size.files)} files,{' '}
                <b>{size(one.size.databaseBytes)}</b> in the database
              </>
            ) : (
              'not measured yet'
            )}
          </Fact>
          <Fact name="Server">
            {one.server}, <span className="mono">{one.roots[0]?.path}</span>
          </Fact>
          <Fact name="Database">
            <span className="mono">{one.databases.join(', ')}</span>
          </Fact>
        </Facts>
      </DisclosurePanel>
    </Disclosure>
  );
}

/** The login of a copy's gate, shown when it is asked for. */
function Gate({ one }: { readonly one: Environment }): JSX.Element {
  const login = useMutation({
    mutationFn: () => client.call('environmentLogins', { params: { site: one.site, environment: one.name } }),
  });
  return (
    <>
      {login.data?.gate ? (
        <>
          <span className="mono">
            {login.data.gate.user} / {login.data.gate.password}
          </span>
          <span className="ml-12">
            <CopyText text={login.data.gate.password} label="the password" words="Copy the password" />
          </span>
        </>
      ) : (
        <Button small disabled={login.isPending} onClick={() => login.mutate()}>
          Show the login
        </Button>
      )}
      <span className="ml-12 text-ink3">closed to strangers and search engines</span>
      {login.isError && <Failure error={login.error} />}
    </>
  );
}
