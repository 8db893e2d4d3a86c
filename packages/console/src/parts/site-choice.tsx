import type { JSX } from 'react';
import { useFleet } from '../session.js';
import { FindChoice } from './find-choice.js';
import type { View } from './use-view.js';

/** The site to which a list is narrowed. */
export function SiteChoice({ view }: { readonly view: View }): JSX.Element {
  const sites = useFleet();
  return (
    <FindChoice
      name="Site"
      isFilter
      none="all"
      value={view.get('site')}
      choose={(site) => view.set('site', site)}
      options={(sites.data ?? []).map(({ name, client }) => ({ value: name, words: name, kind: client }))}
    />
  );
}
