import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Snapshot } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { placeOf, useMay } from '../may.js';
import { Button, ButtonLink } from '../parts/button.js';
import { Confirm } from '../parts/confirm.js';
import { clock } from '../parts/moments.js';
import { RoomHead } from '../parts/room.js';
import { SiteChoice } from '../parts/site-choice.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { Figure, FigureHead, WideCell } from '../parts/table.js';
import { useView } from '../parts/use-view.js';
import { Ago, number, size } from '../parts/words.js';
import { client, useFleet } from '../session.js';

/** Immutable records of environments: what they hold, whether they are whole, and what one may do with them. */
export function SnapshotsRoom(): JSX.Element {
  const view = useView();
  const site = view.get('site') === '' ? undefined : view.get('site');
  const snapshots = useQuery({
    queryKey: ['snapshots', site ?? 'all'],
    queryFn: () => client.call('snapshotList', { query: site === undefined ? {} : { site } }),
  });
  const total = snapshots.data?.reduce((sum, one) => sum + one.addedBytes, 0) ?? 0;
  return (
    <main className="flex min-h-0 flex-1 flex-col bg-slab">
      <RoomHead>
        <h1 className="text-title">Snapshots</h1>
        {snapshots.data && snapshots.data.length > 0 && (
          <span className="text-ink3">
            {number(snapshots.data.length)}, {size(total)} on disk
          </span>
        )}
        <span className="flex-1 max-desk:hidden" />
        <SiteChoice view={view} />
        <VerifyAll snapshots={snapshots.data ?? []} />
      </RoomHead>
      {snapshots.isPending ? (
        <Loading what="Reading the snapshots" />
      ) : snapshots.isLoadingError ? (
        <Failure error={snapshots.error} />
      ) : snapshots.data.length === 0 ? (
        <Empty
          title={site === undefined ? 'No snapshots yet' : `No snapshots of ${site} yet`}
          act={site === undefined ? undefined : <ButtonLink to={`/sites/${site}`}>To {site}</ButtonLink>}
        >
          A snapshot keeps an environment as it is at one moment, so that you can bring it back, or make a copy of it.
        </Empty>
      ) : (
        <div className="flex-1 overflow-auto">
          <table>
            <thead>
              <tr>
                <th>Taken</th>
                <th>Of</th>
                <th>Reason</th>
                <FigureHead>Files</FigureHead>
                <FigureHead>Rows</FigureHead>
                <FigureHead>Size</FigureHead>
                <FigureHead>Added</FigureHead>
                <th>State</th>
                <th>
                  <span className="sr-only">Acts</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {snapshots.data.map((one) => (
                <Row key={one.id} one={one} />
              ))}
            </tbody>
          </table>
        </div>
      )}
    </main>
  );
}

/** Reads again all that nobody has read since it was taken, one after the other. */
function VerifyAll({ snapshots }: { readonly snapshots: readonly Snapshot[] }): JSX.Element | null {
  const cache = useQueryClient();
  const sites = useFleet().data ?? [];
  const may = useMay();
  const [at, setAt] = useState<number>();
  const open = snapshots.filter(({ verifiedAt, damage, environment, kind, site }) => {
    const of = sites.find(({ name }) => name === site);
    const isAllowed = may('snapshotVerify', of && placeOf(of, { path: environment, kind })).allowed;
    return verifiedAt === null && damage.length === 0 && isAllowed;
  });
  const verify = useMutation({
    mutationFn: async (wanted: readonly Snapshot[]) => {
      for (const [i, { id }] of wanted.entries()) {
        setAt(i);
        await client.call('snapshotVerify', { params: { id } });
      }
    },
    onSettled: () => {
      setAt(undefined);
      return cache.invalidateQueries({ queryKey: ['snapshots'] });
    },
  });
  if (verify.isError) return <Failure error={verify.error} />;
  if (open.length < 2 && at === undefined) return null;
  return (
    <Button disabled={at !== undefined} onClick={() => verify.mutate(open)}>
      {at === undefined ? `Verify all ${open.length} that are not` : `Reading ${at + 1} of ${open.length}`}
    </Button>
  );
}

function Row({ one }: { readonly one: Snapshot }): JSX.Element {
  const cache = useQueryClient();
  const navigate = useNavigate();
  const [isRestoring, setRestoring] = useState(false);
  const [isRemoving, setRemoving] = useState(false);
  const refresh = { onSettled: () => cache.invalidateQueries({ queryKey: ['snapshots'] }) };
  const verify = useMutation({
    mutationFn: () => client.call('snapshotVerify', { params: { id: one.id } }),
    ...refresh,
  });
  const remove = useMutation({
    mutationFn: () => client.call('snapshotRemove', { params: { id: one.id } }),
    ...refresh,
  });
  const restore = useMutation({
    mutationFn: () => client.call('restoreCreate', { body: { snapshot: one.id, onto: one.environment } }),
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  const failure = [verify, remove, restore].find((act) => act.isError)?.error;
  const isLive = one.kind === 'live';
  const site = useFleet().data?.find(({ name }) => name === one.site);
  const may = useMay();
  const place = site && placeOf(site, { path: one.environment, kind: one.kind });
  return (
    <>
      <tr>
        <td className="text-ink2" title={clock(one.takenAt)}>
          <Ago time={one.takenAt} suffix=" ago" />
        </td>
        <td className="mono">
          <Link to={`/sites/${one.site}`}>{one.environment}</Link>
        </td>
        <WideCell className="text-ink2" title={one.reason}>
          {one.reason}
        </WideCell>
        <Figure>{number(one.files)}</Figure>
        <Figure>{number(one.rows)}</Figure>
        <Figure>{size(one.bytes)}</Figure>
        <Figure className="text-ink2">{size(one.addedBytes)}</Figure>
        <td
          className={one.damage.length > 0 ? 'font-semibold text-danger' : 'text-ink2'}
          title={one.damage.map((damage) => `${damage.holds}: ${damage.message}`).join('\n')}
        >
          {verify.isPending
            ? 'reading…'
            : one.damage.length > 0
              ? `damaged: ${one.damage[0]?.holds}`
              : one.verifiedAt
                ? 'whole'
                : 'not verified'}
        </td>
        <td>
          <span className="flex justify-end gap-4 max-desk:justify-start max-desk:pt-6">
            <Button
              small
              may={may('snapshotVerify', place)}
              disabled={verify.isPending}
              onClick={() => verify.mutate()}
            >
              Verify
            </Button>
            <ButtonLink
              small
              may={may('environmentCreate', site && placeOf(site))}
              to={`/sites/${one.site}/new?snapshot=${one.id}`}
            >
              New copy
            </ButtonLink>
            {isLive ? (
              <ButtonLink
                small
                may={may('restoreCreate', place)}
                to={`/sites/${one.site}/forecast?${new URLSearchParams({ from: one.environment, onto: one.environment, snapshot: one.id })}`}
              >
                Restore…
              </ButtonLink>
            ) : (
              <Button small may={may('restoreCreate', place)} onClick={() => setRestoring(true)}>
                Restore
              </Button>
            )}
            <Button small may={may('snapshotRemove', place)} onClick={() => setRemoving(true)}>
              Remove
            </Button>
          </span>
          <Confirm
            isOpen={isRestoring}
            close={() => setRestoring(false)}
            title={`Restore onto ${one.environment}`}
            button={`Restore onto ${one.environment.split('/')[1]}`}
            isDanger
            act={() => restore.mutate()}
          >
            The copy becomes exactly what it was then.
          </Confirm>
          <Confirm
            isOpen={isRemoving}
            close={() => setRemoving(false)}
            title={`Remove the snapshot of ${one.environment}`}
            button="Remove the snapshot"
            isDanger
            act={() => remove.mutate()}
          >
            Taken {clock(one.takenAt)}. Only what no other snapshot shares is freed.
          </Confirm>
        </td>
      </tr>
      {failure !== undefined && (
        <tr>
          <td colSpan={9}>
            <Failure error={failure} />
          </td>
        </tr>
      )}
    </>
  );
}
