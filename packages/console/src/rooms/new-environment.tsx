import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { checkProfile } from '@tessarion/core';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { Icon } from '../parts/icon.js';
import { Failure, Unread } from '../parts/states.js';
import { Tile } from '../parts/tile.js';
import { clock, size } from '../parts/words.js';
import { client, useSite } from '../session.js';

/** Makes a copy: kind, name and address first, then where it comes from and what it leaves out. */
export function NewEnvironmentRoom(): JSX.Element {
  const { site: siteName = '' } = useParams();
  const [query] = useSearchParams();
  const navigate = useNavigate();
  const site = useSite(siteName);
  const [kind, setKind] = useState<'dev' | 'staging'>(query.get('kind') === 'dev' ? 'dev' : 'staging');
  const [name, setName] = useState<string | undefined>(undefined);
  const [isTyped, setTyped] = useState(false);
  const [from, setFrom] = useState(`${siteName}/live`);
  const [areas, setAreas] = useState<readonly string[]>([]);
  const [tables, setTables] = useState<readonly string[]>([]);
  const [paths, setPaths] = useState('');
  const [snapshot, setSnapshot] = useState(query.get('snapshot'));
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
  const snapshots = useQuery({
    queryKey: ['snapshots', siteName],
    queryFn: () => client.call('snapshotList', { query: { site: siteName } }),
  });
  const taken = snapshots.data?.find((one) => one.id === snapshot);
  const leftOutPaths = paths.split(/[\n,]/).flatMap((one) => (one.trim() === '' ? [] : [one.trim()]));
  const create = useMutation({
    mutationFn: () =>
      client.call('environmentCreate', {
        params: { site: siteName },
        body: {
          name: name ?? proposal.data?.name ?? '',
          kind,
          ...(snapshot === null ? { from } : { snapshot }),
          leaveOut: { areas: [...areas], tables: [...tables], paths: leftOutPaths },
        },
      }),
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  if (!site.isSuccess) return <Unread error={site.error} what={`Reading ${siteName}`} />;
  const wished = name ?? proposal.data?.name ?? '';
  const fault = proposal.data?.checks.find((check) => check.state === 'failed');
  const source = site.data.environments.find((one) => one.path === from);
  const known = profile.data ? whatTravels(profile.data.text) : NOTHING_KNOWN;
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
              <input
                type="radio"
                name="kind"
                value={one}
                checked={kind === one}
                onChange={() => {
                  setKind(one);
                  if (!isTyped) setName(undefined);
                }}
              />
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
              // A proposal that arrives now does not change what is under somebody's hands.
              onFocus={() => setName(wished)}
              onChange={(event) => {
                setTyped(true);
                setName(event.target.value);
              }}
            />
            <span id="name-note" className={fault ? 'note bad' : 'note qq'}>
              {fault ? `${fault.message} ${fault.remedy ?? ''}` : (proposal.data?.address ?? '')}
            </span>
          </label>
          <label>
            <span>Copy of</span>
            <select
              value={snapshot ?? from}
              onChange={(event) => {
                const isSnapshot = snapshots.data?.some((one) => one.id === event.target.value) === true;
                setSnapshot(isSnapshot ? event.target.value : null);
                if (!isSnapshot) setFrom(event.target.value);
              }}
            >
              <optgroup label="As it is now">
                {site.data.environments.map((one) => (
                  <option key={one.path} value={one.path}>
                    {one.path}
                  </option>
                ))}
              </optgroup>
              {(snapshots.data ?? []).length > 0 && (
                <optgroup label="As it was">
                  {snapshots.data?.map((one) => (
                    <option key={one.id} value={one.id}>
                      {one.environment}, {clock(one.takenAt)}
                      {one.reason === '' ? '' : `: ${one.reason}`}
                    </option>
                  ))}
                </optgroup>
              )}
            </select>
            <span className="note qq">
              {snapshot === null && source?.size
                ? `${size(source.size.fileBytes)} of files, ${size(source.size.databaseBytes)} of data`
                : ''}
              {taken ? `${size(taken.bytes)}, taken ${clock(taken.takenAt)}` : ''}
            </span>
          </label>
          {known.areas.length > 0 && (
            <fieldset className="ticks">
              <legend>Leave out files of</legend>
              {known.areas.map((area) => (
                <Tick key={area.name} name={area.name} all={areas} set={setAreas}>
                  {area.name} {area.path !== area.name && <span className="mono qq">{area.path}</span>}
                </Tick>
              ))}
            </fieldset>
          )}
          {known.tables.length > 0 && (
            <fieldset className="ticks">
              <legend>Leave out rows of</legend>
              {known.tables.map((table) => (
                <Tick key={table} name={table} all={tables} set={setTables}>
                  <span className="mono">{table}</span>
                </Tick>
              ))}
            </fieldset>
          )}
          <label>
            <span>Leave out paths</span>
            <input
              className="mono"
              value={paths}
              spellCheck={false}
              autoComplete="off"
              placeholder="media/archive, old"
              onChange={(event) => setPaths(event.target.value)}
            />
            <span className="note qq">What is left out is on record, and never taken for deleted.</span>
          </label>
        </section>
        <section className="slab making-confirm">
          <p className="sentence">
            Make{' '}
            <span className="mono">
              {siteName}/{wished}
            </span>{' '}
            as a copy of <span className="mono">{taken?.environment ?? from}</span>
            {taken ? ` as it was on ${clock(taken.takenAt)}` : ''},{' '}
            <b title={known.masked.join(', ')}>{maskedWords(known.masked.length)}</b>
            {leftOut(areas, tables, leftOutPaths)}.
          </p>
          <ul className="promises q">
            <li>
              <Icon name="check" /> closed to strangers and search engines
            </li>
            {known.settings.length > 0 ? (
              <li>
                <Icon name="check" /> with {kind}’s settings:{' '}
                {known.settings.map((one) => `${one.name} ${one.values[kind]}`).join(', ')}
              </li>
            ) : (
              <li className="wn">
                <Icon name="warn" /> no setting differs from live: mail and payments go as they go there
              </li>
            )}
            <li>
              <Icon name="check" /> proved that it cannot reach {taken?.environment ?? from}
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

interface Known {
  readonly areas: readonly { readonly name: string; readonly path: string }[];
  readonly tables: readonly string[];
  /** Columns that are masked on the way. */
  readonly masked: readonly string[];
  /** Settings that have a value by kind, other than live's. */
  readonly settings: readonly { readonly name: string; readonly values: Record<'dev' | 'staging', string> }[];
}
const NOTHING_KNOWN: Known = { areas: [], tables: [], masked: [], settings: [] };

const maskedWords = (columns: number): string =>
  columns === 0 ? 'nothing masked' : columns === 1 ? '1 column masked' : `${columns} columns masked`;

/** What a copy would get, as the profile has it. */
function whatTravels(text: string): Known {
  const checked = checkProfile(text);
  if (!checked.ok) return NOTHING_KNOWN;
  const { areas, databases, settings } = checked.profile;
  const travels = ({ class: dataClass }: { readonly class: string }): boolean =>
    dataClass === 'authored' || dataClass === 'collected';
  return {
    areas: areas.filter((area) => area.path !== '.' && travels(area)),
    tables: Object.values(databases ?? {}).flatMap((database) =>
      Object.entries(database.tables).flatMap(([name, table]) => (travels(table) && !name.includes('*') ? [name] : [])),
    ),
    masked: Object.values(databases ?? {}).flatMap((database) =>
      Object.entries(database.tables).flatMap(([name, table]) =>
        Object.entries(table.columns ?? {}).flatMap(([column, { personal }]) =>
          travels(table) && personal !== undefined && personal !== 'keep' ? [`${name}.${column}`] : [],
        ),
      ),
    ),
    settings: (settings ?? []).flatMap(({ name, values, secret }) =>
      values && !secret && values.staging !== values.live ? [{ name, values }] : [],
    ),
  };
}

function leftOut(areas: readonly string[], tables: readonly string[], paths: readonly string[]): string {
  const all = [...areas, ...tables.map((table) => `rows of ${table}`), ...paths];
  if (all.length === 0) return '';
  return `, without ${all.length > 4 ? `${all.slice(0, 3).join(', ')} and ${all.length - 3} more` : all.join(', ')}`;
}

function Tick({
  name,
  all,
  set,
  children,
}: {
  readonly name: string;
  readonly all: readonly string[];
  readonly set: (all: readonly string[]) => void;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <label className="tick">
      <input
        type="checkbox"
        checked={all.includes(name)}
        onChange={(event) => set(event.target.checked ? [...all, name] : all.filter((one) => one !== name))}
      />
      <span>{children}</span>
    </label>
  );
}
