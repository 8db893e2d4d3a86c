import type { JSX } from 'react';
import { useSites } from '../../session.js';

/** For what something is given: everything, a client, a site, or one environment. */
export function ScopeField({
  scope,
  choose,
}: {
  readonly scope: string;
  readonly choose: (scope: string) => void;
}): JSX.Element {
  const sites = useSites();
  const clients = [...new Set((sites.data ?? []).map((one) => one.client))].sort();
  return (
    <label>
      For
      <select value={scope} onChange={(event) => choose(event.target.value)}>
        <option value="everything">everything</option>
        <optgroup label="A client">
          {clients.map((one) => (
            <option key={one} value={`client:${one}`}>
              {one}
            </option>
          ))}
        </optgroup>
        <optgroup label="A site">
          {(sites.data ?? []).map((one) => (
            <option key={one.name}>{one.name}</option>
          ))}
        </optgroup>
        <optgroup label="An environment">
          {(sites.data ?? []).flatMap((one) =>
            one.environments.map((each) => <option key={each.path}>{each.path}</option>),
          )}
        </optgroup>
      </select>
    </label>
  );
}

export const scopeWords = (scope: string): string =>
  scope.startsWith('client:') ? scope.slice('client:'.length) : scope;
