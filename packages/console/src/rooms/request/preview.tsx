import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { RequestDetail } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
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
      <button type="button" className="btn" disabled={make.isPending} onClick={() => make.mutate()}>
        {words}
      </button>
    ) : null;
  return (
    <section className="preview-zone" aria-label="Preview">
      {preview?.state === 'ready' && (
        <>
          <p>
            <b>Preview</b>{' '}
            <span className={isBehind ? 'acc' : 'q'}>
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
          <div className="more-acts">
            <button type="button" className="btn" onClick={() => open.mutate(preview.environment)}>
              <Icon name="open" /> Open it
            </button>
            {anew('Make it anew')}
            {act?.allowed && (
              <button type="button" className="bare-link" onClick={() => remove.mutate()}>
                Remove it
              </button>
            )}
          </div>
        </>
      )}
      {preview?.state === 'making' && (
        <p className="q pulse">
          The preview is <Link to={`/transfers/${preview.transfer}`}>being made</Link>
        </p>
      )}
      {preview?.state === 'failed' && (
        <p className="because">
          <Link to={`/transfers/${preview.transfer}`}>The preview</Link> came to nothing: {preview.because}
        </p>
      )}
      {preview?.state !== 'ready' && preview?.state !== 'making' && act?.allowed && (
        <div className="more-acts">{anew(preview ? 'Make the preview again' : 'Make a preview')}</div>
      )}
      {failure !== undefined && <Failure error={failure} />}
    </section>
  );
}
