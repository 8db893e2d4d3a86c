import type { ExportForm } from '@tessarion/contract';
import type { JSX } from 'react';
import { buttonLook } from './button.js';

const FORMS: Record<ExportForm, string> = { csv: 'CSV', jsonl: 'JSON Lines' };

/** Saves a whole list as a file, filtered as it is shown. */
export function SaveAs({
  list,
  filter,
}: {
  readonly list: 'journal' | 'transfers';
  readonly filter: Readonly<Record<string, string>>;
}): JSX.Element {
  return (
    <span className="flex items-center gap-6 text-small">
      <span className="text-ink3">Save as</span>
      {(Object.keys(FORMS) as ExportForm[]).map((as) => (
        <a
          key={as}
          className={buttonLook()}
          download
          href={`/api/v1/${list}/export?${new URLSearchParams({ ...filter, as }).toString()}`}
        >
          {FORMS[as]}
        </a>
      ))}
    </span>
  );
}
