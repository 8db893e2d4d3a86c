import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { BodyOf, Environment, Site, Transfer } from '@tessarion/contract';
import type { Decision } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { useNavigate } from 'react-router';
import { Button, ButtonLink, TextLink } from '../../parts/button.js';
import { Confirm } from '../../parts/confirm.js';
import { Fact } from '../../parts/facts.js';
import { InlineText } from '../../parts/inline-text.js';
import { Overtaken } from '../../parts/overtaken.js';
import { Failure } from '../../parts/states.js';
import { Ago } from '../../parts/words.js';
import { client, useMe } from '../../session.js';

const DAYS = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];

const paramsOf = (one: Environment) => ({ site: one.site, environment: one.name });

function useEdit(one: Environment) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ etag, ...body }: BodyOf<'environmentEdit'> & { readonly etag: string }) =>
      client.call('environmentEdit', { params: paramsOf(one), body, etag }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['sites', one.site] }),
  });
}

/** Words by which a site is put together with others, for lists and freezes. */
export function Tags({ site }: { readonly site: Site }): JSX.Element {
  const cache = useQueryClient();
  const me = useMe();
  const save = async (text: string, etag: string): Promise<void> => {
    const tags = text.split(/[\s,]+/).filter((one) => one !== '');
    try {
      const changed = await client.call('siteTag', { params: { site: site.name }, body: { tags }, etag });
      cache.setQueryData<Site>(['sites', site.name], changed);
    } finally {
      await cache.invalidateQueries({ queryKey: ['sites', site.name] });
    }
  };
  return (
    <InlineText
      text={site.tags.join(' ')}
      etag={site.etag}
      label="Tags"
      placeholder="shop north"
      shown={site.tags.length > 0 ? site.tags.join(', ') : <span className="text-ink3">none</span>}
      button={
        me.data?.permissions.includes('site.manage') ? (site.tags.length === 0 ? 'Give it some' : 'Change') : undefined
      }
      save={save}
    />
  );
}

/** What a copy is for, in words of the people who work in it. */
export function Description({ one }: { readonly one: Environment }): JSX.Element {
  const edit = useEdit(one);
  return (
    <InlineText
      text={one.description ?? ''}
      etag={one.etag}
      label="What it is for"
      shown={one.description ?? <span className="text-ink3">not said</span>}
      button={one.description === null ? 'Say it' : 'Change'}
      save={(description, etag) => edit.mutateAsync({ description, etag })}
    />
  );
}

const scheduleWords = (schedule: Environment['schedule']): string =>
  schedule === null
    ? 'when somebody brings it'
    : `at ${schedule.at}, ${schedule.days.length === 0 ? 'every day' : schedule.days.map((day) => DAYS[day - 1]).join(', ')}`;

/** When live's news comes in by itself, and what came of it last. */
export function Schedule({ one, zone }: { readonly one: Environment; readonly zone: string }): JSX.Element {
  const [wish, setWish] = useState<{ at: string; days: number[]; etag: string }>();
  const edit = useEdit(one);
  const { schedule } = one;
  if (!wish)
    return (
      <>
        {schedule ? (
          <>
            {scheduleWords(schedule)} <span className="text-ink3">{zone}</span>{' '}
          </>
        ) : (
          <span className="text-ink3">when somebody brings it </span>
        )}
        <Button
          small
          onClick={() => setWish({ at: schedule?.at ?? '03:30', days: [...(schedule?.days ?? [])], etag: one.etag })}
        >
          {schedule ? 'Change' : 'Set a time'}
        </Button>
        {schedule?.last && (
          <span className={`block ${schedule.last.outcome === 'stopped' ? 'text-accent' : 'text-ink2'}`}>
            Last time, <Ago time={schedule.last.at} suffix=" ago" />: {schedule.last.text}{' '}
            {schedule.last.transfer !== null && (
              <TextLink to={`/transfers/${schedule.last.transfer}`}>what it brought</TextLink>
            )}
            {schedule.last.outcome === 'stopped' && schedule.last.forecast !== null && (
              <TextLink
                to={`/sites/${one.site}/forecast?from=${schedule.from}&onto=${one.path}&id=${schedule.last.forecast}`}
              >
                settle it
              </TextLink>
            )}
          </span>
        )}
      </>
    );
  const close = { onSuccess: () => setWish(undefined) };
  const keep = (etag: string): void => {
    const { at, days } = wish;
    edit.mutate({ schedule: { from: schedule?.from ?? `${one.site}/live`, at, days }, etag }, close);
  };
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    keep(wish.etag);
  };
  const toggle = (day: number): void =>
    setWish({
      ...wish,
      days: wish.days.includes(day) ? wish.days.filter((each) => each !== day) : [...wish.days, day].sort(),
    });
  return (
    <form className="flex flex-wrap items-center gap-6" onSubmit={submit}>
      <input
        type="time"
        required
        aria-label="Time of day"
        value={wish.at}
        onChange={(event) => setWish({ ...wish, at: event.target.value })}
      />
      <span className="inline-flex gap-2">
        {DAYS.map((name, i) => (
          <Button
            key={name}
            small
            className="aria-pressed:bg-ink! aria-pressed:text-slab!"
            aria-pressed={wish.days.length === 0 || wish.days.includes(i + 1)}
            onClick={() => toggle(i + 1)}
          >
            {name}
          </Button>
        ))}
      </span>
      <Button type="submit" small main disabled={edit.isPending}>
        Keep
      </Button>
      {schedule && (
        <Button small onClick={() => edit.mutate({ schedule: null, etag: wish.etag }, close)}>
          End it
        </Button>
      )}
      <Button small onClick={() => setWish(undefined)}>
        Leave it
      </Button>
      {edit.isError && <Overtaken error={edit.error} now={scheduleWords(schedule)} again={() => keep(one.etag)} />}
    </form>
  );
}

/** Links that compare a copy with the other copies of its kind. */
export function Siblings({ one, site }: { readonly one: Environment; readonly site: Site }): JSX.Element | null {
  const siblings = site.environments.filter((other) => other.kind === one.kind && other.path !== one.path);
  if (siblings.length === 0) return null;
  return (
    <Fact name="Siblings">
      <span className="flex flex-wrap gap-4">
        {siblings.map((other) => (
          <ButtonLink
            key={other.path}
            small
            title={other.description ?? other.path}
            to={`/sites/${site.name}/compare?left=${one.path}&right=${other.path}`}
          >
            Compare with {other.name}
          </ButtonLink>
        ))}
      </span>
    </Fact>
  );
}

/** Gives a copy another name and address. */
export function Rename({ one, may }: { readonly one: Environment; readonly may: Decision }): JSX.Element {
  const navigate = useNavigate();
  const [isOpen, setOpen] = useState(false);
  const [name, setName] = useState(one.name);
  const rename = useMutation({
    mutationFn: () => client.call('environmentRename', { params: paramsOf(one), body: { name } }),
    onSuccess: (transfer: Transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  return (
    <>
      <Button may={may} disabled={one.state === 'working'} onClick={() => setOpen(true)}>
        Rename
      </Button>
      {rename.isError && <Failure error={rename.error} />}
      <Confirm
        isOpen={isOpen}
        close={() => setOpen(false)}
        title={`Rename ${one.path}`}
        button={`Rename it to ${name}`}
        act={() => rename.mutate()}
      >
        <span>
          Its address follows its name: everything that holds it is written anew, and the copy is closed meanwhile.
        </span>
        <label className="grid gap-4 text-ink">
          New name
          <input
            className="mono"
            spellCheck={false}
            autoComplete="off"
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
      </Confirm>
    </>
  );
}
