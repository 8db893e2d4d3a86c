import type { JSX } from 'react';
import { FindChoice } from '../../parts/find-choice.js';
import { useFleet } from '../../session.js';

/** For what something is given: everything, a client, a site, or one environment. */
export function ScopeField({
  scope,
  choose,
}: {
  readonly scope: string;
  readonly choose: (scope: string) => void;
}): JSX.Element {
  const sites = useFleet();
  const all = sites.data ?? [];
  const clients = [...new Set(all.map((one) => one.client))].sort();
  return (
    <FindChoice
      name="For"
      value={scope}
      choose={choose}
      options={[
        { value: 'everything', words: 'everything' },
        ...clients.map((one) => ({ value: `client:${one}`, words: one, kind: 'client' })),
        ...all.map(({ name }) => ({ value: name, words: name, kind: 'site' })),
        ...all.flatMap((one) => one.environments.map(({ path, kind }) => ({ value: path, words: path, kind }))),
      ]}
    />
  );
}

/** For what something is given, as people say it. */
export const scopeWords = (scope: string): string =>
  scope.startsWith('client:') ? scope.slice('client:'.length) : scope;
