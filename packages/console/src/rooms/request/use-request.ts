import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { BodyOf, RequestDetail } from '@tessarion/contract';
import { client } from '../../session.js';

/** A change request in full. */
export const useRequest = (id: string) =>
  useQuery<RequestDetail>({
    queryKey: ['request', id],
    queryFn: () => client.call('requestShow', { params: { id } }),
  });

/** What one does to a request; each answer is the request as it is then. */
type Deed =
  | { readonly act: 'ask' | 'unschedule' | 'ask-over' }
  | { readonly act: 'yield'; readonly items: string[] }
  | { readonly act: 'revise'; readonly wishes?: BodyOf<'requestRevise'> }
  | { readonly act: 'withdraw'; readonly reason: string }
  | { readonly act: 'verdict'; readonly body: BodyOf<'verdictGive'> }
  | { readonly act: 'comment'; readonly body: BodyOf<'commentAdd'> }
  | { readonly act: 'edit-comment'; readonly comment: string; readonly text: string; readonly etag: string }
  | { readonly act: 'edit'; readonly body: BodyOf<'requestEdit'>; readonly etag: string }
  | { readonly act: 'remove-comment'; readonly comment: string }
  | { readonly act: 'resolve'; readonly comment: string; readonly resolved: boolean }
  | { readonly act: 'tick'; readonly step: string; readonly done: boolean }
  | { readonly act: 'deliver'; readonly body: BodyOf<'requestDeliver'> };

function run(id: string, deed: Deed): Promise<RequestDetail> {
  const params = { id };
  switch (deed.act) {
    case 'ask':
      return client.call('requestAsk', { params });
    case 'ask-over':
      return client.call('claimAsk', { params });
    case 'yield':
      return client.call('claimYield', { params, body: { items: deed.items } });
    case 'unschedule':
      return client.call('requestUnschedule', { params });
    case 'revise':
      return client.call('requestRevise', { params, body: deed.wishes ?? {} });
    case 'withdraw':
      return client.call('requestWithdraw', { params, body: { reason: deed.reason } });
    case 'verdict':
      return client.call('verdictGive', { params, body: deed.body });
    case 'comment':
      return client.call('commentAdd', { params, body: deed.body });
    case 'edit-comment':
      return client.call('commentEdit', {
        params: { id, comment: deed.comment },
        body: { text: deed.text },
        etag: deed.etag,
      });
    case 'edit':
      return client.call('requestEdit', { params, body: deed.body, etag: deed.etag });
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

/** What one can do to a request; what is shown of it follows. */
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

/** See {@link useDeeds}. */
export type Deeds = ReturnType<typeof useDeeds>;
