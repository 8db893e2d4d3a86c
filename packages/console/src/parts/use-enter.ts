import { useMutation } from '@tanstack/react-query';
import { client } from '../session.js';

/** Opens an environment in a window of its own, past its gate. The window opens with the click: a browser stops one that opens later. */
export function useEnter({ site, name }: { readonly site: string; readonly name: string }): {
  readonly enter: () => void;
  readonly error: unknown;
} {
  const entering = useMutation({
    mutationFn: async (page: Window | null) => ({
      page,
      ...(await client.call('environmentEnter', { params: { site, environment: name } })),
    }),
    onSuccess: ({ page, url }) => {
      if (page) page.location.href = url;
    },
    onError: (_error, page) => page?.close(),
  });
  return { enter: () => entering.mutate(window.open('about:blank')), error: entering.error ?? undefined };
}
