import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { Forecast } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Confirm } from '../../parts/confirm.js';
import { Failure } from '../../parts/states.js';
import { number } from '../../parts/words.js';
import { client } from '../../session.js';
import { PICK } from './pick.js';

const CHOICES = [
  ['authored', 'Ours', 'made by the team, merges both ways'],
  ['collected', 'Visitors’', 'made on live, only flows down'],
  ['local', 'This copy’s', 'never travels'],
  ['derived', 'Rebuilt', 'caches and indexes'],
] as const;
type Class = (typeof CHOICES)[number][0];

/** A table that changed and that nobody has given a class: one click says what it is, after naming what that reaches. */
export function Unclassified({
  forecast,
  one,
}: {
  readonly forecast: Forecast;
  readonly one: Forecast['unclassified'][number];
}): JSX.Element {
  const cache = useQueryClient();
  const site = forecast.onto.split('/')[0] as string;
  const body = { database: one.database, table: one.table };
  const [isOpen, setOpen] = useState(false);
  const trial = useMutation({
    mutationFn: (chosen: Class) =>
      client.call('profileClassify', { params: { site }, body: { ...body, class: chosen, trial: true } }),
    onSuccess: () => setOpen(true),
  });
  const said = trial.data;
  const isGrave = said?.class === 'authored' && (said.before === 'collected' || said.before === 'local');
  const save = useMutation({
    mutationFn: (typed: string) =>
      client.call('profileClassify', {
        params: { site },
        body: { ...body, class: said?.class ?? 'unclassified', ...(isGrave ? { confirm: typed } : {}) },
      }),
    onSuccess: async () => {
      const computing = await client.call('forecastSettle', { params: { id: forecast.id }, body: {} });
      cache.setQueryData(['forecast', forecast.id], computing);
    },
  });
  const words = CHOICES.find(([name]) => name === said?.class);
  return (
    <div className="border-b border-l-3 border-b-line border-l-accent px-16 pt-10 pb-12">
      <p className="mb-8">
        <b className="mono">{one.table}</b> changed on {forecast.from.split('/')[1]} ({number(one.rows)}{' '}
        {one.rows === 1 ? 'row' : 'rows'}). Whose is it?
      </p>
      <span className="grid grid-cols-[1fr_1fr] gap-4">
        {CHOICES.map(([name, label, note]) => (
          <button
            key={name}
            type="button"
            className={`${PICK} border-line`}
            title={note}
            disabled={save.isPending}
            onClick={() => trial.mutate(name)}
          >
            {label} <span className="text-ink3">{name}</span>
          </button>
        ))}
      </span>
      {(trial.isError || save.isError) && <Failure error={trial.error ?? save.error} />}
      {said && words && (
        <Confirm
          isOpen={isOpen}
          close={() => setOpen(false)}
          title={`${one.table} becomes ${said.class}`}
          button={`Save ${said.profile} version ${said.version}`}
          {...(isGrave ? { mustType: one.table, isDanger: true } : {})}
          act={(typed) => save.mutate(typed)}
        >
          {words[2].slice(0, 1).toUpperCase() + words[2].slice(1)}. It is {said.before} now. Version {said.version} of{' '}
          {said.profile} reaches {said.sites.length === 1 ? 'one site' : `${said.sites.length} sites`}:{' '}
          {said.sites.slice(0, 12).join(', ')}
          {said.sites.length > 12 ? ` and ${said.sites.length - 12} more` : ''}
          {said.reachesOthers ? ', and sites that you may not see' : ''}.
          {isGrave ? ' What visitors made would be written onto live.' : ''}
        </Confirm>
      )}
    </div>
  );
}
