import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { DeliveryMoment } from '@tessarion/contract';
import { client } from '../../session.js';

/**
 * What windows and freezes say of a delivery.
 *
 * @param path where it goes; only live has windows
 * @param time as the browser writes local times, or nothing for now
 */
export function useMoment(path: string, time?: string): DeliveryMoment | undefined {
  const [site = '', environment] = path.split('/');
  const at = time === undefined ? undefined : new Date(time);
  const plan = useQuery({
    queryKey: ['plans', site, time ?? 'now'],
    queryFn: () =>
      client.call('deliveryPlan', {
        params: { site },
        ...(at === undefined ? {} : { query: { at: at.toISOString() } }),
      }),
    enabled: environment === 'live' && !Number.isNaN(at?.getTime()),
    placeholderData: keepPreviousData,
  });
  return plan.data?.moment;
}
