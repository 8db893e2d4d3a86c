import { useMutation } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import type { EndpointName, Forecast, Me } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { useNavigate } from 'react-router';
import { type Place, useMay } from '../../may.js';
import { Button, TextButton } from '../../parts/button.js';
import { Dialog } from '../../parts/dialog.js';
import { Field } from '../../parts/field.js';
import { Icon } from '../../parts/icon.js';
import { WhyLocked } from '../../parts/locked.js';
import { Failure } from '../../parts/states.js';
import { TypeName } from '../../parts/type-name.js';
import { duration, number } from '../../parts/words.js';
import { client, useMe } from '../../session.js';
import { AskForm, useLane } from './ask-form.js';
import { Checks } from './checks.js';
import { capital } from './settle.js';

/** What of the interface the button calls. */
const actOf = ({ undoes, snapshot, direction }: Forecast, isLive: boolean): EndpointName =>
  undoes !== null
    ? 'transferUndo'
    : snapshot !== null && isLive
      ? 'restoreCreate'
      : direction === 'up'
        ? 'pushCreate'
        : 'pullCreate';

/** How high the zone is from the first: what is typed and pressed once nothing stops it has its place. */
export const CONFIRM_HEIGHTS = { live: 'desk:min-h-[220px]', copy: 'desk:min-h-[170px]' } as const;

/** Checks, time, and the button: locked until nothing stops it; onto live the destination must be typed. */
export function ConfirmZone({
  forecast,
  onto,
  isCounting,
  showNeeds,
}: {
  readonly forecast: Forecast;
  /** Where it goes; undefined until that is known. */
  readonly onto: Place | undefined;
  readonly isCounting: boolean;
  readonly showNeeds: () => void;
}): JSX.Element {
  const navigate = useNavigate();
  const isLive = onto?.environment?.kind === 'live';
  const may = useMay();
  const decision = may(actOf(forecast, isLive), onto);
  const mayAsk = may('requestOpen', onto);
  const [typed, setTyped] = useState('');
  const [urgent, setUrgent] = useState<string>();
  const [override, setOverride] = useState('');
  const past = {
    ...(urgent === undefined ? {} : { urgent }),
    ...(override.trim() === '' ? {} : { override }),
  };
  const body = { forecast: forecast.id, ...(isLive ? { confirm: typed } : {}), ...past };
  const act = useMutation({
    mutationFn: () =>
      forecast.undoes !== null
        ? client.call('transferUndo', { params: { id: forecast.undoes }, body })
        : forecast.snapshot !== null && isLive
          ? client.call('restoreCreate', { body: { snapshot: forecast.snapshot, onto: forecast.onto, ...body } })
          : forecast.direction === 'up'
            ? client.call('pushCreate', { body })
            : client.call('pullCreate', { body: { forecast: forecast.id } }),
    onSuccess: (transfer) => void navigate(`/transfers/${transfer.id}`),
  });
  const lane = useLane(forecast);
  const me = useMe();
  const holds = (permission: Me['permissions'][number]): boolean => me.data?.permissions.includes(permission) === true;
  const [isAsking, setAsking] = useState(false);
  const isClosed = act.error instanceof ServiceProblem && act.error.problem.type === 'tessarion:closed';
  const [failed] = forecast.checks.filter((check) => check.state === 'failed');
  const written = forecast.written.reduce((sum, one) => sum + one.count, 0);
  const isOpen = !failed && written > 0 && forecast.unsettled === 0;
  const mustAsk = (lane.asks || (!decision.allowed && lane.isUp)) && urgent === undefined;
  const isReady =
    isOpen && !isCounting && !act.isPending && (!isLive || typed === forecast.onto) && urgent?.trim() !== '';
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (isReady) act.mutate();
  };
  return (
    <form
      // As high from the first as it will be once nothing stops it: nothing below moves.
      className={`col-3 row-[1/3] flex flex-col gap-6 bg-slab px-16 py-12 max-desk:fixed max-desk:inset-x-0 max-desk:bottom-0 max-desk:z-5 max-desk:px-12 max-desk:py-8 max-desk:shadow-[0_-2px_0_var(--color-grout)] ${CONFIRM_HEIGHTS[isLive ? 'live' : 'copy']}`}
      onSubmit={submit}
      aria-label="Confirm"
    >
      <Checks checks={forecast.checks} />
      <div className="mb-auto flex items-center gap-6 text-ink2 max-desk:hidden">
        <Icon name="undo" />
        {capital(
          [
            forecast.estimateSeconds === null ? '' : `about ${duration(forecast.estimateSeconds)}`,
            forecast.holdMilliseconds === null ? '' : `visitors wait ${number(forecast.holdMilliseconds)} ms`,
            forecast.undoes === null ? 'undo stays possible' : 'later changes by others stay',
          ]
            .filter((part) => part !== '')
            .join(', '),
        )}
      </div>
      {act.isError && <Failure error={act.error} />}
      {!isOpen ? (
        <>
          <span
            className="flex h-36 items-center justify-center gap-6 rounded-sm border border-dashed border-rim bg-bed font-semibold whitespace-nowrap text-ink2 max-desk:h-44"
            aria-disabled="true"
          >
            <Icon name="lock" />
            {forecast.button}
          </span>
          {forecast.unsettled > 0 ? (
            <button
              type="button"
              className="flex h-28 items-center justify-center gap-8 text-accent"
              onClick={showNeeds}
            >
              <b>
                {forecast.unsettled === 1
                  ? 'Settle 1 collision first'
                  : `Settle ${number(forecast.unsettled)} collisions first`}
              </b>
              <kbd>N</kbd>
            </button>
          ) : (
            <span className="text-center text-small text-ink2">
              {failed ? failed.message : 'Nothing is chosen, or nothing waits'}
            </span>
          )}
        </>
      ) : mustAsk && mayAsk.allowed ? (
        <>
          <p className="mt-auto text-ink2 text-small">{lane.words || (decision.allowed ? '' : decision.words)}</p>
          <Button main wide onClick={() => setAsking(true)}>
            Ask for review
          </Button>
          {lane.asks && holds('live.urgent') && <TextButton onClick={() => setUrgent('')}>It cannot wait</TextButton>}
        </>
      ) : mustAsk || !decision.allowed ? (
        <>
          <Button main wide may={mustAsk ? mayAsk : decision}>
            {forecast.button}
          </Button>
          <WhyLocked of={mustAsk ? [decision, mayAsk] : [decision]} />
        </>
      ) : (
        <div className="mt-auto flex flex-col gap-8">
          {urgent !== undefined && (
            <Field>
              Why it cannot wait; it stays marked, and is reviewed afterwards
              <input autoFocus value={urgent} onChange={(event) => setUrgent(event.target.value)} />
            </Field>
          )}
          {isClosed && holds('window.override') && (
            <Field>
              Why outside a window or in a freeze; it stays marked
              <input value={override} onChange={(event) => setOverride(event.target.value)} />
            </Field>
          )}
          {isLive && <TypeName path={forecast.onto} typed={typed} type={setTyped} isFirst={forecast.undoes !== null} />}
          <Button type="submit" main wide disabled={!isReady}>
            {forecast.button}
          </Button>
          {lane.isUp && <TextButton onClick={() => setAsking(true)}>Ask for review instead</TextButton>}
        </div>
      )}
      <Dialog isOpen={isAsking} close={() => setAsking(false)} title="Ask for review" className="w-480 p-16">
        <AskForm forecast={forecast} words={lane.words} />
      </Dialog>
    </form>
  );
}
