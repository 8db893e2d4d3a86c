import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import { useMutation } from '@tanstack/react-query';
import type { ChangeRequest, Environment, Site, Transfer } from '@tessarion/contract';
import type { Decision } from '@tessarion/core';
import { type JSX, type ReactNode, useState } from 'react';
import { useNavigate } from 'react-router';
import { placeOf, useMay } from '../../may.js';
import { Button, buttonLook } from '../../parts/button.js';
import { Confirm } from '../../parts/confirm.js';
import { Icon } from '../../parts/icon.js';
import { WhyLocked } from '../../parts/locked.js';
import { POP, POP_ITEM } from '../../parts/pop.js';
import { Failure } from '../../parts/states.js';
import { number, size } from '../../parts/words.js';
import { client } from '../../session.js';
import { Rename } from './copy-facts.js';

const ACTS = {
  live: ['snapshotTake', 'siteLeave'],
  copy: ['snapshotTake', 'resetCreate', 'environmentRename', 'environmentRemove'],
} as const;

/** What one may do with an environment as a whole; what takes work away says how much. */
export function EnvironmentActs({
  site,
  one,
  requests,
}: {
  readonly site: Site;
  readonly one: Environment;
  /** Those that are open: what they come from is not removed. */
  readonly requests: readonly ChangeRequest[];
}): JSX.Element {
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
  const held = requests.filter(({ from }) => from === one.path);
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
          {one.kind !== 'live' && <Rename one={one} may={may('environmentRename', place)} />}
          <Menu>
            <MenuButton className={buttonLook()}>
              What takes away <Icon name="down" />
            </MenuButton>
            <MenuItems className={POP} anchor="bottom start">
              {one.kind === 'live' ? (
                <TakesAway
                  may={may('siteLeave', place)}
                  rests={copies > 0 ? 'its copies are removed first' : isBusy ? BUSY : undefined}
                  act={() => setAsked('leave')}
                >
                  Give the site back
                </TakesAway>
              ) : (
                <>
                  <TakesAway
                    may={may('resetCreate', place)}
                    rests={isBusy ? BUSY : undefined}
                    act={() => setAsked('reset')}
                  >
                    Reset from live
                  </TakesAway>
                  <TakesAway may={may('environmentRemove', place)} rests={undefined} act={() => setAsked('remove')}>
                    Remove
                  </TakesAway>
                </>
              )}
            </MenuItems>
          </Menu>
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
        {held.length > 0 && (
          <span className="mt-6 block text-warn">
            {held.map(({ title }) => title).join(', ')} {held.length === 1 ? 'comes' : 'come'} from here, and{' '}
            {held.length === 1 ? 'is' : 'are'} withdrawn or delivered first.
          </span>
        )}
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

const BUSY = 'something is at work on it';

/** An act that takes something away, in its menu; what rests says why. */
function TakesAway({
  may,
  rests,
  act,
  children,
}: {
  readonly may: Decision;
  /** Why it cannot be done now. */
  readonly rests: string | undefined;
  readonly act: () => void;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <MenuItem disabled={!may.allowed || rests !== undefined}>
      <button
        type="button"
        className={`${POP_ITEM} text-danger data-disabled:text-ink2`}
        title={may.allowed ? undefined : may.words}
        onClick={act}
      >
        <span className="flex items-center gap-6">
          {!may.allowed && <Icon name="lock" />}
          {children}
        </span>
        {rests !== undefined && <span className="text-small text-ink3">{rests}</span>}
      </button>
    </MenuItem>
  );
}
