import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { RequestDetail } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { FormEnd } from '../../parts/form-end.js';
import { Overtaken } from '../../parts/overtaken.js';
import { client } from '../../session.js';
import { AboutFields, aboutOf, changesOf, isSaid } from './about-fields.js';

/** Changes what is said of a request. What was typed stays, whatever else becomes of the request meanwhile. */
export function EditForm({
  request,
  close,
}: {
  readonly request: RequestDetail;
  readonly close: () => void;
}): JSX.Element {
  const cache = useQueryClient();
  const [{ former, etag }] = useState(() => ({ former: aboutOf(request), etag: request.etag }));
  const [about, setAbout] = useState(former);
  const save = useMutation({
    mutationFn: (edited: string) =>
      client.call('requestEdit', { params: { id: request.id }, body: changesOf(former, about), etag: edited }),
    onSuccess: (changed) => {
      cache.setQueryData(['request', request.id], changed);
      void cache.invalidateQueries({ queryKey: ['requests'] });
      close();
    },
    onError: () => cache.invalidateQueries({ queryKey: ['request', request.id] }),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!isSaid(about)) return;
    if (Object.keys(changesOf(former, about)).length === 0) close();
    else save.mutate(etag);
  };
  const there = aboutOf(request);
  return (
    <form className="mb-16 flex max-w-560 flex-col gap-8" onSubmit={submit}>
      <AboutFields about={about} onto={request.onto} author={request.author.id} change={setAbout} />
      {save.isError && (
        <Overtaken
          error={save.error}
          now={[there.title, there.description, there.before, there.after].filter((text) => text !== '').join(' · ')}
          again={() => save.mutate(request.etag)}
        />
      )}
      <FormEnd button="Keep this" isDisabled={!isSaid(about) || save.isPending} leave={close} />
    </form>
  );
}
