import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { LaneRule } from '@tessarion/contract';
import { asksForApproval, wantedBy } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { TextButton } from '../../parts/button.js';
import { Field, Tick } from '../../parts/field.js';
import { FormEnd } from '../../parts/form-end.js';
import { Overtaken } from '../../parts/overtaken.js';
import { PickList } from '../../parts/pick-list.js';
import { client, useMe } from '../../session.js';

const ruleWords = (rule: LaneRule): string =>
  `${asksForApproval(rule) ? wantedBy(rule).join(' and ') : 'nothing'}${rule.threadsBlock ? '; open threads block it' : ''}`;

/** What must be there before anything goes onto live, or onto staging. */
export function LaneRules({ site }: { readonly site: string }): JSX.Element | null {
  const me = useMe();
  const rules = useQuery({
    queryKey: ['lanes', site],
    queryFn: () => client.call('laneList', { params: { site } }),
  });
  const [edited, setEdited] = useState<LaneRule['onto']>();
  if (!rules.data) return null;
  const mayManage = me.data?.permissions.includes('site.manage') === true;
  return (
    <section className="bg-slab px-16 py-12 max-desk:px-12">
      <h2>Before anything goes</h2>
      {[...rules.data].reverse().map((rule) =>
        rule.onto === edited ? (
          <RuleForm key={rule.onto} rule={rule} close={() => setEdited(undefined)} />
        ) : (
          <p key={rule.onto} className="flex items-baseline justify-between gap-8 py-4">
            <span>
              <span className="text-ink2">onto {rule.onto}: </span>
              {ruleWords(rule)}
            </span>
            {mayManage && (
              <TextButton aria-label={`Change what goes onto ${rule.onto} needs`} onClick={() => setEdited(rule.onto)}>
                Change
              </TextButton>
            )}
          </p>
        ),
      )}
    </section>
  );
}

const COUNTS = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9];

function RuleForm({ rule, close }: { readonly rule: LaneRule; readonly close: () => void }): JSX.Element {
  const cache = useQueryClient();
  const teams = useQuery({ queryKey: ['teams'], queryFn: () => client.call('teamList') });
  const [{ etag, ...wish }, setWish] = useState(rule);
  const save = useMutation({
    mutationFn: (edited: string) =>
      client.call('laneRule', {
        params: { site: rule.site, onto: rule.onto },
        body: {
          approvals: wish.approvals,
          guests: wish.guests,
          teams: [...wish.teams],
          threadsBlock: wish.threadsBlock,
        },
        etag: edited,
      }),
    onSuccess: close,
    onSettled: () => cache.invalidateQueries({ queryKey: ['lanes', rule.site] }),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    save.mutate(etag);
  };
  const set = (changes: Partial<LaneRule>): void => setWish({ etag, ...wish, ...changes });
  const count = (label: string, name: 'approvals' | 'guests'): JSX.Element => (
    <Field>
      {label}
      <select value={wish[name]} onChange={(event) => set({ [name]: Number(event.target.value) })}>
        {COUNTS.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </Field>
  );
  return (
    <form className="mt-8 mb-12 flex flex-col gap-8" onSubmit={submit}>
      <b>Onto {rule.onto}</b>
      <div className="grid grid-cols-[1fr_1fr] gap-8">
        {count('Approvals', 'approvals')}
        {count('Yes of guests', 'guests')}
      </div>
      <PickList
        title="Somebody of each of"
        one="team"
        nobody="no team in particular"
        all={(teams.data ?? []).map((team) => ({ id: team.name, name: team.title }))}
        chosen={wish.teams}
        choose={(chosen) => set({ teams: chosen })}
      />
      <Tick className="text-small text-ink2">
        <input
          type="checkbox"
          checked={wish.threadsBlock}
          onChange={(event) => set({ threadsBlock: event.target.checked })}
        />
        <span>Open threads keep it from going</span>
      </Tick>
      {save.isError && <Overtaken error={save.error} now={ruleWords(rule)} again={() => save.mutate(rule.etag)} />}
      <p className="text-ink2">What is in review is judged by it at once.</p>
      <FormEnd button="Keep it so" isDisabled={save.isPending} leave={close} />
    </form>
  );
}
