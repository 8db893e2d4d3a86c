import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { type FormEvent, type JSX, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { parse } from 'yaml';
import { Icon } from '../parts/icon.js';
import { Failure, Loading } from '../parts/states.js';
import { Tile } from '../parts/tile.js';
import { size } from '../parts/words.js';
import { client, useSite } from '../session.js';

/** Makes a copy: kind, name and address first, then where it comes from and what it leaves out. */
export function NewEnvironmentRoom(): JSX.Element {
  const { site: siteName = '' } = useParams();
  const [query] = useSearchParams();
  const navigate = useNavigate();
  const site = useSite(siteName);
  const [kind, setKind] = useState<'dev' | 'staging'>(query.get('kind') === 'dev' ? 'dev' : 'staging');
  const [name, setName] = useState<string | undefined>(undefined);
  const [from, setFrom] = useState(`${siteName}/live`);
  const [areas, setAreas] = useState<readonly string[]>([]);
  const proposal = useQuery({
    queryKey: ['proposal', siteName, kind, name],
    queryFn: () =>
      client.call('environmentProposal', {
        params: { site: siteName },
        query: { kind, ...(name === undefined ? {} : { name }) },
      }),
    placeholderData: keepPreviousData,
  });
  const profile = useQuery({
    queryKey: ['profile', site.data?.profile],
    enabled: site.data?.profile != null,
    queryFn: () => client.call('profileShow', { params: { name: site.data?.profile ?? '' }, query: {} }),
  });
  const create = useMutation({
    mutationFn: () =>
      client.call('environmentCreate', {
        params: { site: siteName },
        body: { name: name ?? proposal.data?.name ?? '', kind, from, leaveOut: { areas: [...areas] } },
      }),
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  if (site.isPending)
    return (
      <main className="room slab">
        <Loading what={`Reading ${siteName}`} />
      </main>
    );
  if (site.isError)
    return (
      <main className="room slab">
        <Failure error={site.error} />
      </main>
    );
  const wished = name ?? proposal.data?.name ?? '';
  const fault = proposal.data?.checks.find((check) => check.state === 'failed');
  const source = site.data.environments.find((one) => one.path === from);
  const known = profile.data
    ? (parse(profile.data.text) as { areas: { name: string; path: string; class: string }[] }).areas.filter(
        (area) => area.path !== '.' && area.class !== 'derived' && area.class !== 'local',
      )
    : [];
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!fault && wished !== '') create.mutate();
  };
  return (
    <>
      <div className="crumb slab">
        <Link to="/">Fleet</Link>
        <i>/</i>
        <Link to={`/sites/${siteName}`}>{siteName}</Link>
        <i>/</i>
        <h1>New copy</h1>
      </div>
      <form className="making" onSubmit={submit}>
        <fieldset className="slab kinds">
          <legend className="sr-only">Kind</legend>
          {(['staging', 'dev'] as const).map((one) => (
            <label key={one} className={`plate-choice ${one} ${kind === one ? 'on' : ''}`}>
              <input type="radio" name="kind" value={one} checked={kind === one} onChange={() => setKind(one)} />
              <Tile kind={one} state="in-step" size={32} decorative />
              <span className="pl">
                <b>{one}</b>
                <span className="q">
                  {one === 'staging' ? 'for content and review; goes up to live' : 'for code; goes up to staging'}
                </span>
              </span>
            </label>
          ))}
        </fieldset>
        <section className="slab fields">
          <label>
            <span>Name</span>
            <input
              className="mono"
              value={wished}
              spellCheck={false}
              autoComplete="off"
              aria-invalid={fault !== undefined}
              aria-describedby="name-note"
              onChange={(event) => setName(event.target.value)}
            />
            <span id="name-note" className={fault ? 'note bad' : 'note qq'}>
              {fault ? `${fault.message} ${fault.remedy ?? ''}` : (proposal.data?.address ?? '')}
            </span>
          </label>
          <label>
            <span>Copy of</span>
            <select value={from} onChange={(event) => setFrom(event.target.value)}>
              {site.data.environments.map((one) => (
                <option key={one.path} value={one.path}>
                  {one.path}
                </option>
              ))}
            </select>
            <span className="note qq">
              {source?.size
                ? `${size(source.size.fileBytes)} of files, ${size(source.size.databaseBytes)} of data`
                : ''}
            </span>
          </label>
          {known.length > 0 && (
            <fieldset>
              <legend>Leave out</legend>
              {known.map((area) => (
                <label key={area.name} className="tick">
                  <input
                    type="checkbox"
                    checked={areas.includes(area.name)}
                    onChange={(event) =>
                      setAreas(event.target.checked ? [...areas, area.name] : areas.filter((one) => one !== area.name))
                    }
                  />
                  {area.name} <span className="mono qq">{area.path}</span>
                </label>
              ))}
            </fieldset>
          )}
        </section>
        <section className="slab making-confirm">
          <p className="sentence">
            Make{' '}
            <span className="mono">
              {siteName}/{wished}
            </span>{' '}
            as a copy of <span className="mono">{from}</span>, <b>personal data masked</b>.
          </p>
          <ul className="promises q">
            <li>
              <Icon name="check" /> closed to strangers and search engines
            </li>
            <li>
              <Icon name="check" /> mail caught, payments in test mode
            </li>
            <li>
              <Icon name="check" /> proved that it cannot reach {from}
            </li>
          </ul>
          {create.isError && <Failure error={create.error} />}
          <button
            type="submit"
            className="btn main big"
            disabled={fault !== undefined || wished === '' || create.isPending}
          >
            Make {siteName}/{wished}
          </button>
        </section>
      </form>
    </>
  );
}
