import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/react';
import { useQuery } from '@tanstack/react-query';
import { type JSX, useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import { client, useFleet } from '../session.js';
import { Dialog } from './dialog.js';
import { hasWords } from './find-choice.js';
import { Icon } from './icon.js';
import { Tile } from './tile.js';

interface Found {
  readonly id: string;
  readonly text: string;
  readonly hint: string;
  readonly to: string;
  readonly tile?: JSX.Element;
}

const MOST = 12;
const STORED = 'tessarion last found';
const KEPT = 6;

/** What was found last, the newest first. */
function lastUsed(): readonly string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(STORED) ?? '[]');
    return Array.isArray(kept) ? kept.filter((one) => typeof one === 'string') : [];
  } catch {
    return [];
  }
}

const noteUsed = (id: string): void =>
  localStorage.setItem(STORED, JSON.stringify([id, ...lastUsed().filter((one) => one !== id)].slice(0, KEPT)));

const placeOf = (last: readonly string[], id: string): number => (last.includes(id) ? last.indexOf(id) : KEPT);

/** Finds sites, environments and acts by any of their words. */
export function Finder({ isOpen, close }: { readonly isOpen: boolean; readonly close: () => void }): JSX.Element {
  const [text, setText] = useState('');
  const navigate = useNavigate();
  const sites = useFleet();
  const people = useQuery({
    queryKey: ['people'],
    enabled: isOpen,
    queryFn: () => client.call('personList'),
  });
  const transfers = useQuery({
    queryKey: ['transfers', 'finder'],
    enabled: isOpen,
    queryFn: () => client.call('transferList', { query: { limit: 50 } }),
  });
  const all = useMemo((): Found[] => {
    const list = sites.data ?? [];
    return [
      { id: 'fleet', text: 'Fleet', hint: 'room', to: '/' },
      { id: 'transfers', text: 'Transfers', hint: 'room', to: '/transfers' },
      { id: 'snapshots', text: 'Snapshots', hint: 'room', to: '/snapshots' },
      { id: 'requests', text: 'Change requests', hint: 'room', to: '/requests' },
      { id: 'windows', text: 'Windows', hint: 'room', to: '/windows' },
      { id: 'people', text: 'People & access', hint: 'room', to: '/people' },
      { id: 'servers', text: 'Servers', hint: 'room', to: '/servers' },
      { id: 'bring-in', text: 'Bring in a site', hint: 'act', to: '/bring-in' },
      { id: 'webhooks', text: 'Webhooks', hint: 'room', to: '/webhooks' },
      { id: 'journal', text: 'Journal', hint: 'room', to: '/journal' },
      { id: 'profiles', text: 'Profiles', hint: 'room', to: '/profiles' },
      { id: 'settings', text: 'Settings', hint: 'room', to: '/settings' },
      { id: 'notices', text: 'Notices', hint: 'room', to: '/notices' },
      { id: 'figures', text: 'Figures', hint: 'room', to: '/figures' },
      ...list.map((site): Found => ({ id: site.name, text: site.name, hint: site.client, to: `/sites/${site.name}` })),
      ...list.flatMap((site) =>
        site.environments.map(
          (one): Found => ({
            id: one.path,
            text: one.path,
            hint: one.kind,
            to: `/sites/${site.name}?at=${one.name}`,
            tile: <Tile kind={one.kind} state={one.state} size={18} decorative />,
          }),
        ),
      ),
      ...list.flatMap((site) =>
        site.requests.map(
          (one): Found => ({ id: one.id, text: one.title, hint: `request, ${site.name}`, to: `/requests/${one.id}` }),
        ),
      ),
      ...(people.data ?? []).map(
        (one): Found => ({ id: one.id, text: one.name, hint: one.mail, to: `/people?at=${one.id}` }),
      ),
      ...(transfers.data?.items ?? []).map(
        (one): Found => ({
          id: one.id,
          text: `${one.kind} onto ${one.onto}`,
          hint: `transfer ${one.id}, ${one.person}`,
          to: `/transfers/${one.id}`,
        }),
      ),
      ...list.map(
        (site): Found => ({
          id: `new ${site.name}`,
          text: `New copy of ${site.name}`,
          hint: 'act',
          to: `/sites/${site.name}/new`,
        }),
      ),
      ...list.flatMap((site) =>
        site.environments
          .filter((one) => one.kind === 'staging')
          .map(
            (one): Found => ({
              id: `forecast ${one.path}`,
              text: `Forecast ${one.path} onto live`,
              hint: 'act',
              to: `/sites/${site.name}/forecast?from=${one.path}&onto=${site.name}/live`,
            }),
          ),
      ),
      ...list.flatMap((site) =>
        site.environments
          .filter((one) => one.kind !== 'live')
          .map(
            (one): Found => ({
              id: `pull ${one.path}`,
              text: `Bring live’s news into ${one.path}`,
              hint: 'act',
              to: `/sites/${site.name}/forecast?from=${site.name}/live&onto=${one.path}`,
            }),
          ),
      ),
    ];
  }, [sites.data, people.data, transfers.data]);
  // With nothing asked for, what was used last is at hand.
  const last = isOpen ? lastUsed() : [];
  const found = (
    text.trim() === ''
      ? [...all].sort((a, b) => placeOf(last, a.id) - placeOf(last, b.id))
      : all.filter((one) => hasWords(`${one.text} ${one.hint}`, text))
  ).slice(0, MOST);
  const go = (one: Found | null): void => {
    if (!one) return;
    close();
    setText('');
    noteUsed(one.id);
    void navigate(one.to);
  };
  return (
    <Dialog isOpen={isOpen} close={close} name="Find or do" className="w-480">
      <Combobox<Found> immediate onChange={go}>
        <div className="flex h-44 items-center gap-10 border-b border-line px-16">
          <Icon name="find" />
          <ComboboxInput
            className="h-full min-h-0 border-0 bg-transparent bg-none p-0 text-[14px] outline-0"
            aria-label="Find or do"
            placeholder="Site, environment, or what to do"
            autoFocus
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
        </div>
        <ComboboxOptions static className="max-h-420 overflow-auto py-4">
          {found.length === 0 && <p className="px-16 py-12 text-ink2">Nothing has “{text}” in its name.</p>}
          {found.map((one) => (
            <ComboboxOption
              key={one.id}
              value={one}
              className="grid h-36 cursor-pointer grid-cols-[18px_1fr_auto] items-center gap-10 px-16 data-focus:bg-accent-tint data-focus:shadow-at"
            >
              <span className="block w-18">{one.tile ?? null}</span>
              <span>{one.text}</span>
              <span className="text-ink3">{one.hint}</span>
            </ComboboxOption>
          ))}
        </ComboboxOptions>
      </Combobox>
    </Dialog>
  );
}
