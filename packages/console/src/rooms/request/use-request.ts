import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { BodyOf, RequestDetail } from '@tessarion/contract';
import { client } from '../../session.js';

export const useRequest = (id: string) =>
  useQuery<RequestDetail>({
    queryKey: ['request', id],
    queryFn: () => client.call('requestShow', { params: { id } }),
  });

/** What one does to a request; each answer is the request as it is then. */
export type Deed =
  | { readonly act: 'ask' | 'unschedule' }
  | { readonly act: 'revise' }
  | { readonly act: 'withdraw'; readonly reason: string }
  | { readonly act: 'verdict'; readonly body: BodyOf<'verdictGive'> }
  | { readonly act: 'comment'; readonly body: BodyOf<'commentAdd'> }
  | { readonly act: 'edit-comment'; readonly comment: string; readonly text: string }
  | { readonly act: 'remove-comment'; readonly comment: string }
  | { readonly act: 'resolve'; readonly comment: string; readonly resolved: boolean }
  | { readonly act: 'tick'; readonly step: string; readonly done: boolean }
  | { readonly act: 'deliver'; readonly body: BodyOf<'requestDeliver'> };

function run(id: string, deed: Deed): Promise<RequestDetail> {
  const params = { id };
  switch (deed.act) {
    case 'ask':
      return client.call('requestAsk', { params });
    case 'unschedule':
      return client.call('requestUnschedule', { params });
    case 'revise':
      return client.call('requestRevise', { params, body: {} });
    case 'withdraw':
      return client.call('requestWithdraw', { params, body: { reason: deed.reason } });
    case 'verdict':
      return client.call('verdictGive', { params, body: deed.body });
    case 'comment':
      return client.call('commentAdd', { params, body: deed.body });
    case 'edit-comment':
      return client.call('commentEdit', { params: { id, comment: deed.comment }, body: { text: deed.text } });
    case 'remove-comment':
      return client.call('commentRemove', { params: { id, comment: deed.comment } });
    case 'resolve':
      return client.call('threadResolve', {
        params: { id, comment: deed.comment },
        body: { resolved: deed.resolved },
      });
    case 'tick':
      return client.call('stepTick', { params: { id, step: deed.step }, body: { done: deed.done } });
    case 'deliver':
      return client.call('requestDeliver', { params, body: deed.body });
  }
}

export function useDeeds(id: string) {
  const cache = useQueryClient();
  return useMutation<RequestDetail, Error, Deed>({
    mutationFn: (deed) => run(id, deed),
    onSuccess: (request) => {
      cache.setQueryData(['request', id], request);
      void cache.invalidateQueries({ queryKey: ['requests'] });
    },
  });
}

export type Deeds = ReturnType<typeof useDeeds>;
