import { useQueryClient } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import type { FleetSite, Forecast } from '@tessarion/contract';
import { counted, type Decision } from '@tessarion/core';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { placeOf, useMay } from '../../may.js';
import { Button, TextLink } from '../../parts/button.js';
import { Dialog } from '../../parts/dialog.js';
import { Field } from '../../parts/field.js';
import { Icon } from '../../parts/icon.js';
import { client } from '../../session.js';
import { copiesOf, ofKind } from './groups.js';

/** What came of an act upon one thing. */
interface Outcome {
  readonly of: string;
  readonly is: 'coming' | 'running' | 'done' | 'left' | 'failed';
  readonly words: string;
  /** Where more of it stands. */
  readonly to?: string;
}

interface Deed {
  readonly title: string;
  /** What it is done to, each by itself. */
  readonly things: readonly string[];
  readonly run: (thing: string) => Promise<Omit<Outcome, 'of'>>;
}

/** As many at once: the service takes twenty forecasts of one person. */
const AT_ONCE = 4;

/** What can be done to all sites that are chosen, together. */
export function ActsUponSeveral({
  sites,
  leave,
}: {
  readonly sites: readonly FleetSite[];
  readonly leave: () => void;
}): JSX.Element {
  const cache = useQueryClient();
  const may = useMay();
  const [asked, setAsked] = useState<'tag' | 'freeze'>();
  const [deed, setDeed] = useState<Deed>();
  const copies = sites.flatMap((site) => copiesOf(site).map(({ path }) => path));
  const begin = (next: Deed): void => {
    setAsked(undefined);
    setDeed(next);
  };
  /** The first refusal, where there is one: what is not allowed for all is locked. */
  const refusal = (act: 'snapshotTake' | 'pullCreate' | 'siteTag' | 'freezeAdd'): { readonly may?: Decision } => {
    const decisions = sites.flatMap((site) =>
      act === 'snapshotTake'
        ? ofKind(site, 'live').map((one) => may(act, placeOf(site, one)))
        : act === 'pullCreate'
          ? copiesOf(site).map((one) => may(act, placeOf(site, one)))
          : [may(act, placeOf(site))],
    );
    const refused = decisions.find((one) => !one.allowed);
    return refused ? { may: refused } : {};
  };
  return (
    <div
      className="flex flex-wrap items-center gap-8 border-b border-line bg-accent-tint px-16 py-6"
      role="toolbar"
      aria-label="Acts upon the chosen sites"
    >
      <b>{counted(sites.length, 'site')} chosen</b>
      <Button
        small
        {...refusal('snapshotTake')}
        onClick={() =>
          begin({
            title: `Snapshots of ${counted(sites.length, 'live site')}`,
            things: sites.flatMap((site) => ofKind(site, 'live').map(({ path }) => path)),
            run: takeSnapshot,
          })
        }
      >
        Take a snapshot
      </Button>
      <Button
        small
        {...refusal('pullCreate')}
        disabled={copies.length === 0}
        title={copies.length === 0 ? 'They have no copies.' : undefined}
        onClick={() =>
          begin({
            title: `Live’s news into ${copies.length === 1 ? '1 copy' : `${copies.length} copies`}`,
            things: copies,
            run: bringNews,
          })
        }
      >
        Bring live’s news
      </Button>
      <Button small {...refusal('siteTag')} onClick={() => setAsked('tag')}>
        Tag
      </Button>
      <Button small {...refusal('freezeAdd')} onClick={() => setAsked('freeze')}>
        Freeze
      </Button>
      <span className="flex-1" />
      <Button small bare onClick={leave}>
        <Icon name="close" size={12} /> None
      </Button>
      <Dialog
        isOpen={asked === 'tag'}
        close={() => setAsked(undefined)}
        title="Tag the chosen sites"
        className="w-480 p-16"
      >
        <TagForm
          give={(tag) =>
            begin({
              title: `The tag ${tag} for ${counted(sites.length, 'site')}`,
              things: sites.map(({ name }) => name),
              run: (site) => addTag(site, tag),
            })
          }
        />
      </Dialog>
      <Dialog
        isOpen={asked === 'freeze'}
        close={() => setAsked(undefined)}
        title="Freeze the chosen sites"
        className="w-480 p-16"
      >
        <FreezeForm
          freeze={(freeze) =>
            begin({
              title: `${counted(sites.length, 'site')} frozen`,
              things: sites.map(({ name }) => name),
              run: async (site) => {
                await client.call('freezeAdd', {
                  body: { reason: freeze.reason, scope: site, time: { repeats: 'never', ...freeze } },
                });
                return { is: 'done', words: `until ${freeze.until.replace('T', ' ')}` };
              },
            })
          }
        />
      </Dialog>
      {deed && (
        <Doing
          key={deed.title}
          deed={deed}
          close={() => {
            setDeed(undefined);
            void cache.invalidateQueries();
          }}
        />
      )}
    </div>
  );
}

async function takeSnapshot(environment: string): Promise<Omit<Outcome, 'of'>> {
  const { id } = await client.call('snapshotTake', { body: { environment, reason: 'taken together with others' } });
  return { is: 'done', words: 'is being taken', to: `/transfers/${id}` };
}

async function addTag(site: string, tag: string): Promise<Omit<Outcome, 'of'>> {
  const { tags, etag } = await client.call('siteShow', { params: { site } });
  if (tags.includes(tag)) return { is: 'left', words: 'had it' };
  await client.call('siteTag', { params: { site }, body: { tags: [...tags, tag] }, etag });
  return { is: 'done', words: [...tags, tag].join(', ') };
}

const PAUSE_MS = 700;

/** Brings live's news into a copy, unless something has to be settled by a person, or nothing came. */
async function bringNews(onto: string): Promise<Omit<Outcome, 'of'>> {
  const [site = ''] = onto.split('/');
  const from = `${site}/live`;
  let forecast: Forecast = await client.call('forecastCreate', { body: { from, onto } });
  const to = `/sites/${site}/forecast?from=${from}&onto=${onto}&id=${forecast.id}`;
  while (forecast.state === 'computing') {
    await new Promise((resolve) => setTimeout(resolve, PAUSE_MS));
    forecast = await client.call('forecastShow', { params: { id: forecast.id } });
  }
  const stop = forecast.failure?.message ?? forecast.checks.find((check) => check.state === 'failed')?.message;
  if (stop !== undefined) return { is: 'failed', words: stop, to };
  if (forecast.unsettled > 0)
    return { is: 'left', words: `${counted(forecast.unsettled, 'collision')} to settle first`, to };
  if (forecast.written.length === 0) return { is: 'left', words: 'had all of it' };
  const { id } = await client.call('pullCreate', { body: { forecast: forecast.id } });
  return { is: 'done', words: 'is on its way', to: `/transfers/${id}` };
}

const WORDS: Record<Outcome['is'], string> = {
  coming: 'text-ink3',
  running: 'text-ink2',
  done: 'text-ink2',
  left: 'text-ink2',
  failed: 'font-semibold text-danger',
};

/** Does it to one thing after the other, and says of each what came of it. */
function Doing({ deed, close }: { readonly deed: Deed; readonly close: () => void }): JSX.Element {
  const [outcomes, setOutcomes] = useState<readonly Outcome[]>(() =>
    deed.things.map((of) => ({ of, is: 'coming', words: '' })),
  );
  const [isBegun, setBegun] = useState(false);
  const set = (of: string, next: Omit<Outcome, 'of'>): void =>
    setOutcomes((all) => all.map((one) => (one.of === of ? { of, ...next } : one)));
  const work = async (line: string[]): Promise<void> => {
    for (let of = line.shift(); of !== undefined; of = line.shift()) {
      set(of, { is: 'running', words: 'working' });
      try {
        set(of, await deed.run(of));
      } catch (error) {
        const words = error instanceof ServiceProblem ? error.problem.detail : String(error);
        set(of, { is: 'failed', words });
      }
    }
  };
  const start = (): void => {
    setBegun(true);
    const line = [...deed.things];
    for (let i = 0; i < AT_ONCE; i++) void work(line);
  };
  const count = (is: Outcome['is']): number => outcomes.filter((one) => one.is === is).length;
  const open = count('coming') + count('running');
  return (
    <Dialog isOpen close={close} title={deed.title} className="w-640 p-16">
      <p className="mb-8 text-ink2" aria-live="polite">
        {!isBegun
          ? 'One after the other; what needs a decision is left, and said.'
          : open > 0
            ? `${outcomes.length - open} of ${outcomes.length}; keep this page open until all are begun.`
            : sums(count('done'), count('left'), count('failed'))}
      </p>
      <ul className="mb-12 max-h-[50vh] overflow-auto border-t border-line">
        {outcomes.map(({ of, is, words, to }) => (
          <li
            key={of}
            className="grid min-h-row grid-cols-[minmax(0,1fr)_minmax(0,1.4fr)] items-center gap-12 border-b border-line"
          >
            <span className="truncate mono">{of}</span>
            <span className={`wrap-anywhere ${WORDS[is]}`}>
              {to === undefined ? words : <TextLink to={to}>{words}</TextLink>}
            </span>
          </li>
        ))}
      </ul>
      <div className="flex justify-end gap-8">
        {isBegun ? (
          <Button onClick={close} disabled={open > 0}>
            Close
          </Button>
        ) : (
          <>
            <Button onClick={close}>Leave it</Button>
            <Button main onClick={start}>
              {deed.things.length === 1 ? 'Do it' : `Do all ${deed.things.length}`}
            </Button>
          </>
        )}
      </div>
    </Dialog>
  );
}

const sums = (done: number, left: number, failed: number): string =>
  [`${done} done`, left > 0 ? `${left} left as they are` : '', failed > 0 ? `${failed} did not go` : '']
    .filter((part) => part !== '')
    .join(', ');

function Form({
  act,
  button,
  children,
}: {
  readonly act: () => void;
  readonly button: string;
  readonly children: ReactNode;
}): JSX.Element {
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    act();
  };
  return (
    <form className="grid gap-12" onSubmit={submit}>
      {children}
      <Button type="submit" main className="justify-self-end">
        {button}
      </Button>
    </form>
  );
}

function TagForm({ give }: { readonly give: (tag: string) => void }): JSX.Element {
  const [tag, setTag] = useState('');
  return (
    <Form act={() => give(tag)} button="Give it to all">
      <Field>
        Tag, such as shop
        <input
          required
          pattern="[a-z][a-z0-9\-]*"
          title="lower-case letters, digits and single dashes, beginning with a letter"
          value={tag}
          onChange={(event) => setTag(event.target.value)}
        />
      </Field>
    </Form>
  );
}

function FreezeForm({
  freeze,
}: {
  readonly freeze: (one: { readonly reason: string; readonly from: string; readonly until: string }) => void;
}): JSX.Element {
  const [reason, setReason] = useState('');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  return (
    <Form act={() => freeze({ reason, from, until })} button="Freeze them">
      <Field>
        Reason
        <input required value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
      <Field>
        From, in each site’s zone
        <input type="datetime-local" required value={from} onChange={(event) => setFrom(event.target.value)} />
      </Field>
      <Field>
        Until
        <input type="datetime-local" required value={until} onChange={(event) => setUntil(event.target.value)} />
      </Field>
    </Form>
  );
}
