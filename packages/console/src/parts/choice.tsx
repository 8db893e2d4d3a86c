import type { JSX } from 'react';
import { Button } from './button.js';
import { Icon } from './icon.js';
import type { View } from './use-view.js';

/** One of some names, or all. */
export function Choice({
  name,
  value,
  options,
  none,
  choose,
}: {
  readonly name: string;
  readonly value: string;
  readonly options: readonly string[];
  /** What stands first, where that is not all of them. */
  readonly none?: string;
  readonly choose: (value: string) => void;
}): JSX.Element {
  return (
    <label className="flex items-center gap-6 text-small">
      <span className="text-ink3">{name}</span>
      <select className="w-auto" value={value} onChange={(event) => choose(event.target.value)}>
        {none === undefined ? <option value="">all</option> : <option>{none}</option>}
        {options.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </label>
  );
}

/** A day, in the viewer's own zone, as `2026-11-01`; none where it is empty. */
export function DayChoice({
  name,
  value,
  choose,
}: {
  readonly name: string;
  readonly value: string;
  readonly choose: (value: string) => void;
}): JSX.Element {
  return (
    <label className="flex items-center gap-6 text-small">
      <span className="text-ink3">{name}</span>
      <input type="date" value={value} max="9999-12-31" onChange={(event) => choose(event.target.value)} />
    </label>
  );
}

/** What a list is narrowed to by a part of the view, and a way back. */
export function Chosen({ name, view }: { readonly name: string; readonly view: View }): JSX.Element | null {
  const value = view.get(name);
  return value === '' ? null : (
    <Button onClick={() => view.set(name, '')}>
      {value} <Icon name="close" />
    </Button>
  );
}

/** The days of a view as the moments between which they lie: `until` is the last day that is meant. */
export function momentsOf(since: string, until: string): { since?: string; until?: string } {
  const from = new Date(`${since}T00:00`);
  const end = new Date(`${until}T00:00`);
  end.setDate(end.getDate() + 1);
  return {
    ...(Number.isNaN(from.getTime()) ? {} : { since: from.toISOString() }),
    ...(Number.isNaN(end.getTime()) ? {} : { until: end.toISOString() }),
  };
}
