import { useMutation } from '@tanstack/react-query';
import type { Environment, Site, TransferDetail } from '@tessarion/contract';
import { type JSX, useEffect } from 'react';
import { Button, ButtonLink } from '../parts/button.js';
import { Icon } from '../parts/icon.js';
import { Failure } from '../parts/states.js';
import { useEnter } from '../parts/use-enter.js';
import { client } from '../session.js';
import { forecastLink } from './site/map.js';

/** After which there is something new to look at. */
const SHOWS: readonly TransferDetail['kind'][] = [
  'clone',
  'push',
  'pull',
  'reset',
  'restore',
  'undo',
  'rename',
  'adopt',
];

/** What one may do once a transfer has ended: look at what it made, go on from there, or try again. */
export function TransferActs({
  transfer,
  site,
}: {
  readonly transfer: TransferDetail;
  readonly site: Site;
}): JSX.Element {
  const find = (path: string | null): Environment | undefined => site.environments.find((one) => one.path === path);
  const [from, onto] = [find(transfer.from), find(transfer.onto)];
  const isWell = transfer.state === 'done';
  const acknowledge = useMutation({
    mutationFn: () => client.call('transferAcknowledge', { params: { id: transfer.id } }),
  });
  // Once it has ended, who waited for it goes on with a key.
  useEffect(() => {
    const at = document.activeElement;
    if (at === document.body || at?.id === 'room') document.querySelector<HTMLElement>('#room [data-main]')?.focus();
  }, [transfer.id]);
  const moves = (transfer.kind === 'push' || transfer.kind === 'pull') && from && onto;
  return (
    <>
      {acknowledge.isError && <Failure error={acknowledge.error} />}
      {isWell && onto && SHOWS.includes(transfer.kind) && <Open one={onto} isMain />}
      {isWell && transfer.kind === 'clone' && onto && (
        <>
          <ButtonLink className="max-desk:w-full max-desk:justify-center" to={`/sites/${site.name}?at=${onto.name}`}>
            Its room and login
          </ButtonLink>
          <ButtonLink className="max-desk:w-full max-desk:justify-center" to={forecastLink(site, onto)}>
            Forecast
          </ButtonLink>
        </>
      )}
      {!isWell && transfer.state !== 'undone' && moves && (
        <>
          <ButtonLink
            main
            className="max-desk:w-full max-desk:justify-center"
            to={`/sites/${site.name}/forecast?from=${from.path}&onto=${onto.path}`}
          >
            Forecast again
          </ButtonLink>
          <Open one={from} />
        </>
      )}
      {onto?.state === 'failed' && onto.last?.id === transfer.id && (
        <Button disabled={acknowledge.isPending} onClick={() => acknowledge.mutate()}>
          I have seen it
        </Button>
      )}
    </>
  );
}

function Open({ one, isMain = false }: { readonly one: Environment; readonly isMain?: boolean }): JSX.Element {
  const { enter, error } = useEnter(one);
  return (
    <>
      {error !== undefined && <Failure error={error} />}
      <Button main={isMain} className="max-desk:w-full max-desk:justify-center" onClick={enter}>
        <Icon name="open" /> Open {one.path}
      </Button>
    </>
  );
}
