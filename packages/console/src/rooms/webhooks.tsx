import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Webhook, WebhookDelivery } from '@tessarion/contract';
import { ANNOUNCED, type Announced } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { Button, TextButton } from '../parts/button.js';
import { Field, Tick } from '../parts/field.js';
import { FindChoice } from '../parts/find-choice.js';
import { LinkOnce } from '../parts/link-once.js';
import { type Column, ListRoom, Opens } from '../parts/list-room.js';
import { clock } from '../parts/moments.js';
import { Older } from '../parts/older.js';
import { Empty, Failure } from '../parts/states.js';
import { useOpen } from '../parts/use-view.js';
import { Ago } from '../parts/words.js';
import { client, useFleet, useMe } from '../session.js';

const short = (type: string): string => type.replace('tessarion.', '').replace('.', ' ');

/** Other programs that are told what happens, and what they were told. */
export function WebhooksRoom(): JSX.Element {
  const [at, open] = useOpen();
  const me = useMe();
  const hooks = useQuery({ queryKey: ['webhooks'], queryFn: () => client.call('webhookList') });
  const current = hooks.data?.find((one) => one.id === at);
  const mayManage = me.data?.permissions.includes('webhook.manage') === true;
  const columns: readonly Column<Webhook>[] = [
    {
      head: 'Address',
      cell: ({ id, url }) => (
        <Opens open={() => open(id)}>
          <span className="mono">{url}</span>
        </Opens>
      ),
    },
    {
      head: 'Told of',
      look: () => 'q',
      cell: ({ types }) => (types.length === ANNOUNCED.length ? 'everything' : types.map(short).join(', ')),
    },
    { head: 'For', look: () => 'q', cell: ({ scope }) => scope },
  ];
  return (
    <ListRoom
      title="Webhooks"
      act={mayManage ? { words: 'Tell another program' } : undefined}
      read={{ ...hooks, what: 'Reading the webhooks', rows: 4 }}
      items={hooks.data ?? []}
      idOf={({ id }) => id}
      at={at}
      choose={open}
      columns={columns}
      empty={
        <Empty title="No webhooks">
          Another program can be told when a request is approved, scheduled, live or blocked, signed so that it knows
          who says it.
        </Empty>
      }
    >
      {current ? (
        <Hook key={current.id} hook={current} />
      ) : at === 'new' && mayManage ? (
        <NewHook />
      ) : (
        <p className="text-ink2">Choose a webhook to see what was sent to it.</p>
      )}
    </ListRoom>
  );
}

function NewHook(): JSX.Element {
  const cache = useQueryClient();
  const sites = useFleet();
  const [url, setUrl] = useState('');
  const [types, setTypes] = useState<readonly Announced[]>(ANNOUNCED);
  const [scope, setScope] = useState('everything');
  const [allowsPrivate, setPrivate] = useState(false);
  const add = useMutation({
    mutationFn: () => client.call('webhookAdd', { body: { url, types: [...types], scope, allowsPrivate } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['webhooks'] }),
  });
  if (add.data)
    return (
      <LinkOnce title="The secret that signs it" name="secret" link={add.data.secret}>
        The other program proves with it that what comes is from here (Standard Webhooks). It is not shown again.
      </LinkOnce>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <form className="flex flex-col gap-8" onSubmit={submit}>
      <h2 className="mb-4 text-[14px]/24">Tell another program</h2>
      <Field>
        Address
        <input
          type="url"
          required
          placeholder="https://ci.example/hook"
          value={url}
          onChange={(event) => setUrl(event.target.value)}
        />
      </Field>
      <FindChoice
        name="For"
        value={scope}
        choose={setScope}
        options={['everything', ...(sites.data ?? []).map((one) => one.name)].map((one) => ({
          value: one,
          words: one,
        }))}
      />
      <fieldset className="my-8 flex flex-col gap-4">
        <legend className="text-ink2">When</legend>
        {ANNOUNCED.map((type) => (
          <Tick key={type}>
            <input
              type="checkbox"
              checked={types.includes(type)}
              onChange={() => setTypes(types.includes(type) ? types.filter((one) => one !== type) : [...types, type])}
            />
            {short(type)}
          </Tick>
        ))}
      </fieldset>
      <Tick className="text-small text-ink2">
        <input type="checkbox" checked={allowsPrivate} onChange={(event) => setPrivate(event.target.checked)} />
        <span>It lies on this machine, or in a private network</span>
      </Tick>
      {add.isError && <Failure error={add.error} />}
      <Button type="submit" main wide disabled={add.isPending || types.length === 0}>
        Add this webhook
      </Button>
    </form>
  );
}

function Hook({ hook }: { readonly hook: Webhook }): JSX.Element {
  const cache = useQueryClient();
  const key = ['webhooks', hook.id, 'deliveries'];
  const pages = useInfiniteQuery({
    queryKey: key,
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      client.call('webhookDeliveries', {
        params: { id: hook.id },
        query: { limit: 30, ...(pageParam === '' ? {} : { cursor: pageParam }) },
      }),
    getNextPageParam: (page) => page.next,
    refetchInterval: 5000,
  });
  const resend = useMutation({
    mutationFn: (id: string) => client.call('webhookResend', { params: { id } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: key }),
  });
  const remove = useMutation({
    mutationFn: () => client.call('webhookRemove', { params: { id: hook.id } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['webhooks'] }),
  });
  const [isRemoving, setRemoving] = useState(false);
  const sent = pages.data?.pages.flatMap((page) => page.items) ?? [];
  const failure = [resend, remove].find((act) => act.isError)?.error;
  return (
    <div className="flex flex-col gap-8">
      <h2 className="mb-4 truncate mono text-[14px]/24" title={hook.url}>
        {hook.url}
      </h2>
      <p className="text-ink2">
        Since {clock(hook.createdAt)}
        {hook.allowsPrivate && ', may lie in a private network'}
      </p>
      {failure !== undefined && <Failure error={failure} />}
      {pages.isError && <Failure error={pages.error} />}
      {pages.data && sent.length === 0 && <p className="text-ink2">Nothing has happened yet that it is told of.</p>}
      <ul>
        {sent.map((one) => (
          <li key={one.id} className="flex flex-row items-baseline justify-between gap-8 border-b border-line py-4">
            <span>
              <b>{short(one.type)}</b> <span className="text-ink3">{one.subject}</span>
              <span className={one.state === 'given-up' ? 'block font-semibold text-warn' : 'block text-ink2'}>
                {outcome(one)}
              </span>
            </span>
            <span className="text-ink3">
              <Ago time={one.at} suffix=" ago" />{' '}
              {one.state !== 'waiting' && (
                <TextButton className="flex-none self-baseline" onClick={() => resend.mutate(one.id)}>
                  Send again
                </TextButton>
              )}
            </span>
          </li>
        ))}
      </ul>
      <Older pages={pages} />
      {isRemoving ? (
        <div className="flex flex-wrap gap-8">
          <Button danger disabled={remove.isPending} onClick={() => remove.mutate()}>
            Remove the webhook; what waits is not sent
          </Button>
          <Button onClick={() => setRemoving(false)}>Leave it</Button>
        </div>
      ) : (
        <TextButton onClick={() => setRemoving(true)}>Remove the webhook</TextButton>
      )}
    </div>
  );
}

function outcome({ state, status, tries, problem, nextAt }: WebhookDelivery): string {
  if (state === 'delivered')
    return `taken${status === null ? '' : ` with ${status}`}${tries > 1 ? `, at try ${tries}` : ''}`;
  const why = problem ?? (status === null ? '' : `answered ${status}`);
  if (state === 'given-up') return `given up after ${tries} tries: ${why}`;
  return tries === 0 ? 'waits' : `try ${tries} failed: ${why}; again ${nextAt ? clock(nextAt) : 'soon'}`;
}
