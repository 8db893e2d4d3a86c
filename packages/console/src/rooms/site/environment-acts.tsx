import { useMutation } from '@tanstack/react-query';
import type { Environment, Site, Transfer } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { useNavigate } from 'react-router';
import { placeOf, useMay } from '../../may.js';
import { Button, ButtonLink } from '../../parts/button.js';
import { Confirm } from '../../parts/confirm.js';
import { WhyLocked } from '../../parts/locked.js';
import { Failure } from '../../parts/states.js';
import { number, size } from '../../parts/words.js';
import { client } from '../../session.js';
import { Rename } from './copy-facts.js';

const ACTS = {
  live: ['snapshotTake', 'siteLeave'],
  copy: ['snapshotTake', 'pullCreate', 'resetCreate', 'environmentRename', 'environmentRemove'],
} as const;

/** What one may do with an environment as a whole; what takes work away says how much. */
export function EnvironmentActs({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  const navigate = useNavigate();
  const follow = { onSuccess: (transfer: Transfer) => void navigate(`/transfers/${transfer.id}`) };
  const params = { site: site.name, environment: one.name };
  const [asked, setAsked] = useState<'remove' | 'reset' | 'leave' | null>(null);
  const snapshot = useMutation({
    mutationFn: () => client.call('snapshotTake', { body: { environment: one.path } }),
    ...follow,
  });
  const remove = useMutation({
    mutationFn: (confirm: string) => client.call('environmentRemove', { params, query: { confirm } }),
    ...follow,
  });
  const reset = useMutation({
    mutationFn: () => client.call('resetCreate', { body: { from: `${site.name}/live`, onto: one.path } }),
    ...follow,
  });
  const leave = useMutation({
    mutationFn: (confirm: string) => client.call('siteLeave', { params: { site: site.name }, query: { confirm } }),
    ...follow,
  });
  const copies = site.environments.length - 1;
  const isBusy = one.state === 'working';
  const own = one.drift?.up ?? 0;
  const theirs = own === 1 ? '1 item exists' : `${number(own)} items exist`;
  const may = useMay();
  const place = placeOf(site, one);
  const failure = [snapshot, remove, reset, leave].find((act) => act.isError)?.error;
  return (
    <>
      {failure !== undefined && <Failure error={failure} />}
      <footer className="flex flex-col gap-8 px-16 py-12">
        <div className="flex flex-wrap gap-8">
          <Button may={may('snapshotTake', place)} disabled={snapshot.isPending} onClick={() => snapshot.mutate()}>
            Take a snapshot
          </Button>
          {one.kind === 'live' && (
            <Button
              danger
              may={may('siteLeave', place)}
              disabled={isBusy || copies > 0}
              title={copies > 0 ? 'Its copies are removed first.' : undefined}
              onClick={() => setAsked('leave')}
            >
              Give the site back
            </Button>
          )}
          {one.kind !== 'live' && (
            <>
              <ButtonLink
                may={may('pullCreate', place)}
                to={`/sites/${site.name}/forecast?from=${site.name}/live&onto=${one.path}`}
                aria-disabled={isBusy}
              >
                Bring live’s news
              </ButtonLink>
              <Button may={may('resetCreate', place)} disabled={isBusy} onClick={() => setAsked('reset')}>
                Reset from live
              </Button>
              <Rename one={one} may={may('environmentRename', place)} />
              <Button danger may={may('environmentRemove', place)} onClick={() => setAsked('remove')}>
                Remove
              </Button>
            </>
          )}
        </div>
        <WhyLocked of={ACTS[one.kind === 'live' ? 'live' : 'copy'].map((name) => may(name, place))} />
      </footer>
      <Confirm
        isOpen={asked === 'remove'}
        close={() => setAsked(null)}
        title={`Remove ${one.path}`}
        mustType={one.path}
        button={`Remove ${one.path}`}
        isDanger
        act={(typed) => remove.mutate(typed)}
      >
        {own > 0 ? `${theirs} only there, and ${own === 1 ? 'goes' : 'go'} with it. ` : ''}
        {one.size ? `${size(one.size.fileBytes + one.size.databaseBytes)} are freed.` : ''}
      </Confirm>
      <Confirm
        isOpen={asked === 'leave'}
        close={() => setAsked(null)}
        title={`Give ${site.name} back as it was found`}
        mustType={site.name}
        button={`Give ${site.name} back`}
        isDanger
        act={(typed) => leave.mutate(typed)}
      >
        Its files and rows stay where they are, and its folders are put back where they were found. It no longer answers
        through Tessarion’s gateway. Its snapshots, change requests and windows are forgotten; transfers and journal
        stay.
      </Confirm>
      <Confirm
        isOpen={asked === 'reset'}
        close={() => setAsked(null)}
        title={`Make ${one.path} live’s double again`}
        button={`Reset ${one.name}`}
        isDanger
        act={() => reset.mutate()}
      >
        {own > 0 ? `${theirs} only there, and ${own === 1 ? 'goes' : 'go'}.` : 'Work that exists only there goes.'}{' '}
        Personal data comes masked.
      </Confirm>
    </>
  );
}
