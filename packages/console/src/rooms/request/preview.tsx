import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { RequestDetail } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Button, TextButton } from '../../parts/button.js';
import { openWindow } from '../../parts/enter.js';
import { Icon } from '../../parts/icon.js';
import { Failure } from '../../parts/states.js';
import { Ago } from '../../parts/words.js';
import { client } from '../../session.js';

/** What the destination would be with the request in it: made, looked at, made anew. */
export function PreviewZone({ request }: { readonly request: RequestDetail }): JSX.Element | null {
  const cache = useQueryClient();
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['request', request.id] }) };
  const params = { id: request.id };
  const make = useMutation({ mutationFn: () => client.call('previewMake', { params }), ...done });
  const remove = useMutation({ mutationFn: () => client.call('previewRemove', { params }), ...done });
  const open = useMutation({
    mutationFn: (path: string) =>
      openWindow(async () => {
        const [site, environment] = path.split('/') as [string, string];
        return (await client.call('environmentEnter', { params: { site, environment } })).url;
      }),
  });
  const { preview } = request;
  const act = request.acts.find((one) => one.act === 'preview');
  if (!preview && !act?.allowed) return null;
  const failure = [make, remove, open].find((one) => one.isError)?.error;
  const isBehind = preview?.state === 'ready' && preview.revision !== request.revision;
  const anew = (words: string): JSX.Element | null =>
    act?.allowed ? (
      <Button disabled={make.isPending} onClick={() => make.mutate()}>
        {words}
      </Button>
    ) : null;
  return (
    <section className="flex flex-col gap-8 border-y border-line py-8" aria-label="Preview">
      {preview?.state === 'ready' && (
        <>
          <p>
            <b>Preview</b>{' '}
            <span className={isBehind ? 'text-accent' : 'text-ink2'}>
              {isBehind
                ? `of revision ${preview.revision}, not of ${request.revision}`
                : `of revision ${preview.revision}`}
              {preview.at && (
                <>
                  ; {request.onto.split('/')[1]} as of <Ago time={preview.at} suffix=" ago" />
                </>
              )}
            </span>
          </p>
          <div className="flex flex-wrap items-center gap-8">
            <Button onClick={() => open.mutate(preview.environment)}>
              <Icon name="open" /> Open the preview
            </Button>
            {anew('Make the preview anew')}
            {act?.allowed && <TextButton onClick={() => remove.mutate()}>Remove the preview</TextButton>}
          </div>
        </>
      )}
      {preview?.state === 'making' && (
        <p className="animate-working text-ink2 motion-reduce:animate-none">
          The preview is <Link to={`/transfers/${preview.transfer}`}>being made</Link>
        </p>
      )}
      {preview?.state === 'failed' && (
        <p className="border-l-3 border-accent pl-8 wrap-anywhere">
          <Link to={`/transfers/${preview.transfer}`}>The preview</Link> came to nothing: {preview.because}
        </p>
      )}
      {preview?.state !== 'ready' && preview?.state !== 'making' && act?.allowed && (
        <div className="flex flex-wrap items-center gap-8">
          {anew(preview ? 'Make the preview again' : 'Make a preview')}
        </div>
      )}
      {failure !== undefined && <Failure error={failure} />}
    </section>
  );
}
