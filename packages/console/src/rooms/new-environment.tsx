import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { checkProfile } from '@tessarion/core';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { placeOf, useMay } from '../may.js';
import { Button } from '../parts/button.js';
import { Tick } from '../parts/field.js';
import { Icon } from '../parts/icon.js';
import { WhyLocked } from '../parts/locked.js';
import { clock } from '../parts/moments.js';
import { Crumb } from '../parts/room.js';
import { Failure, Unread } from '../parts/states.js';
import { Tile } from '../parts/tile.js';
import { duration, size } from '../parts/words.js';
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
  const former = useQuery({
    queryKey: ['transfers', siteName, 'clones'],
    queryFn: () => client.call('transferList', { query: { site: siteName, kind: 'clone', state: 'done', limit: 1 } }),
  });
  const took = former.data?.items.map(({ startedAt, endedAt }) =>
    startedAt && endedAt ? (Date.parse(endedAt) - Date.parse(startedAt)) / 1000 : undefined,
  )[0];
  const taken = snapshots.data?.find((one) => one.id === snapshot);
  const leftOutPaths = paths.split(/[\n,]/).flatMap((one) => (one.trim() === '' ? [] : [one.trim()]));
  const may = useMay()('environmentCreate', site.data && placeOf(site.data));
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
      <Crumb
        way={[
          ['Fleet', '/'],
          [siteName, `/sites/${siteName}`],
        ]}
        here={'New copy'}
      />
      <form
        className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_360px] grid-rows-[auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:overflow-auto"
        onSubmit={submit}
      >
        <fieldset className="col-span-full grid min-w-0 grid-cols-[1fr_1fr] gap-2 bg-slab px-16 py-12 max-desk:grid-cols-[1fr]">
          <legend className="sr-only">Kind</legend>
          {(['staging', 'dev'] as const).map((one) => (
            <label
              key={one}
              className={`relative flex h-54 cursor-pointer items-center gap-12 px-14 focus-within:outline-2 focus-within:outline-accent focus-within:outline-offset-2 ${one} ${kind === one ? 'laid-course bg-kind-tint' : 'bg-bed'}`}
            >
              <input
                className="absolute inset-0 opacity-0"
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
              <span className="flex flex-col leading-18">
                <b>{one}</b>
                <span className="text-ink2">
                  {one === 'staging' ? 'for content and review; goes up to live' : 'for code; goes up to staging'}
                </span>
              </span>
            </label>
          ))}
        </fieldset>
        <section className="flex flex-col gap-20 overflow-auto bg-slab p-16">
          <label className="grid max-w-480 gap-4">
            <span className="font-semibold">Name</span>
            <input
              className="mono"
              value={wished}
              spellCheck={false}
              autoComplete="off"
              aria-invalid={fault !== undefined}
              aria-describedby="name-note"
              // A proposal that arrives now does not change what is under somebody's hands.
              autoFocus
              onFocus={() => wished !== '' && setName(wished)}
              onChange={(event) => {
                setTyped(true);
                setName(event.target.value);
              }}
            />
            <span
              id="name-note"
              className={`min-h-18 wrap-anywhere text-small ${fault ? 'font-semibold text-danger' : 'text-ink3'}`}
            >
              {fault ? `${fault.message} ${fault.remedy ?? ''}` : (proposal.data?.address ?? '')}
            </span>
          </label>
          {proposal.isError && <Failure error={proposal.error} />}
          <label className="grid max-w-480 gap-4">
            <span className="font-semibold">Copy of</span>
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
            <span className="min-h-18 text-small wrap-anywhere text-ink3">
              {snapshot === null && source?.size
                ? `${size(source.size.fileBytes)} of files, ${size(source.size.databaseBytes)} of data`
                : ''}
              {taken ? `${size(taken.bytes)}, taken ${clock(taken.takenAt)}` : ''}
            </span>
          </label>
          <Disclosure as="div" className="max-w-720" defaultOpen={areas.length + tables.length > 0}>
            <DisclosureButton className="group flex min-h-28 items-center gap-6 font-semibold touch:min-h-44">
              Leave something out <Icon name="down" className="group-data-open:rotate-180" />
              <span className="font-normal text-ink3">files, rows, paths</span>
            </DisclosureButton>
            <DisclosurePanel className="mt-8 flex flex-col gap-20">
              {known.areas.length > 0 && (
                <fieldset className="grid min-w-0 grid-cols-[repeat(auto-fill,minmax(168px,1fr))] gap-x-16">
                  <legend className="font-semibold">Leave out files of</legend>
                  {known.areas.map((area) => (
                    <LeaveOut key={area.name} name={area.name} all={areas} set={setAreas}>
                      {area.name}{' '}
                      {area.path !== area.name && <span className="truncate mono text-ink3">{area.path}</span>}
                    </LeaveOut>
                  ))}
                </fieldset>
              )}
              {known.tables.length > 0 && (
                <fieldset className="grid min-w-0 grid-cols-[repeat(auto-fill,minmax(168px,1fr))] gap-x-16">
                  <legend className="font-semibold">Leave out rows of</legend>
                  {known.tables.map((table) => (
                    <LeaveOut key={table} name={table} all={tables} set={setTables}>
                      <span className="truncate mono">{table}</span>
                    </LeaveOut>
                  ))}
                </fieldset>
              )}
              <label className="grid max-w-480 gap-4">
                <span className="font-semibold">Leave out paths</span>
                <input
                  className="mono"
                  value={paths}
                  spellCheck={false}
                  autoComplete="off"
                  placeholder="media/archive, old"
                  onChange={(event) => setPaths(event.target.value)}
                />
                <span className="min-h-18 text-small wrap-anywhere text-ink3">
                  What is left out is on record, and never taken for deleted.
                </span>
              </label>
            </DisclosurePanel>
          </Disclosure>
        </section>
        <section className="flex flex-col gap-12 bg-slab p-16">
          <p className="text-title font-normal text-pretty wrap-anywhere">
            Make{' '}
            <span className="mono text-[14.5px]">
              {siteName}/{wished}
            </span>{' '}
            as a copy of <span className="mono text-[14.5px]">{taken?.environment ?? from}</span>
            {taken ? ` as it was on ${clock(taken.takenAt)}` : ''},{' '}
            <b className="font-[620]" title={known.masked.join(', ')}>
              {maskedWords(known.masked.length)}
            </b>
            {leftOut(areas, tables, leftOutPaths)}.
          </p>
          <ul className="mb-4 grid gap-6 text-ink2">
            <li className="flex items-start gap-8">
              <Icon name="check" className="mt-3" /> closed to strangers and search engines
            </li>
            {known.settings.length > 0 ? (
              <li className="flex items-start gap-8">
                <Icon name="check" className="mt-3" /> with {kind}’s settings:{' '}
                {known.settings.map((one) => `${one.name} ${one.values[kind]}`).join(', ')}
              </li>
            ) : (
              <li className="flex items-start gap-8 font-semibold text-warn">
                <Icon name="warn" className="mt-3" /> no setting differs from live: mail and payments go as they go
                there
              </li>
            )}
            <li className="flex items-start gap-8">
              <Icon name="check" className="mt-3" /> proved that it cannot reach {taken?.environment ?? from}
            </li>
            {took !== undefined && (
              <li className="flex items-start gap-8">
                <Icon name="check" className="mt-3" /> about {duration(took)}, as the last copy took
              </li>
            )}
          </ul>
          {create.isError && <Failure error={create.error} />}
          <Button type="submit" main wide may={may} disabled={fault !== undefined || wished === '' || create.isPending}>
            Make {siteName}/{wished}
          </Button>
          <WhyLocked of={[may]} />
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

function LeaveOut({
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
    <Tick>
      <input
        type="checkbox"
        checked={all.includes(name)}
        onChange={(event) => set(event.target.checked ? [...all, name] : all.filter((one) => one !== name))}
      />
      <span className="truncate">{children}</span>
    </Tick>
  );
}
