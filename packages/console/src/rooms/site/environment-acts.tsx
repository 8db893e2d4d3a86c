import { useMutation } from '@tanstack/react-query';
import type { Environment, Site, Transfer } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { Confirm } from '../../parts/confirm.js';
import { Failure } from '../../parts/states.js';
import { number, size } from '../../parts/words.js';
import { client } from '../../session.js';
import { Rename } from './copy-facts.js';

/** What one may do with an environment as a whole; what takes work away says how much. */
export function EnvironmentActs({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  const navigate = useNavigate();
  const follow = { onSuccess: (transfer: Transfer) => void navigate(`/transfers/${transfer.id}`) };
  const params = { site: site.name, environment: one.name };
  const [asked, setAsked] = useState<'remove' | 'reset' | null>(null);
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
  const isBusy = one.state === 'working';
  const own = one.drift?.up ?? 0;
  const theirs = own === 1 ? '1 item exists' : `${number(own)} items exist`;
  const failure = [snapshot, remove, reset].find((act) => act.isError)?.error;
  return (
    <>
      {failure !== undefined && <Failure error={failure} />}
      <footer>
        <button type="button" className="btn" disabled={snapshot.isPending} onClick={() => snapshot.mutate()}>
          Take a snapshot
        </button>
        {one.kind !== 'live' && (
          <>
            <Link
              className="btn"
              to={`/sites/${site.name}/forecast?from=${site.name}/live&onto=${one.path}`}
              aria-disabled={isBusy}
            >
              Bring live’s news
            </Link>
            <button type="button" className="btn" disabled={isBusy} onClick={() => setAsked('reset')}>
              Reset from live
            </button>
            <Rename one={one} />
            <button type="button" className="btn danger" onClick={() => setAsked('remove')}>
              Remove
            </button>
          </>
        )}
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
