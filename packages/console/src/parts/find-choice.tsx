import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/react';
import { type JSX, useId, useState } from 'react';

export interface Option {
  readonly value: string;
  readonly words: string;
  /** What it is, such as `site`; found by as well. */
  readonly kind?: string;
}

/** As many as one reads through; whoever looks for another one types a part of it. */
const MOST = 60;

/** Whether a text has every word of what somebody said, anywhere in it. */
export const hasWords = (text: string, said: string): boolean =>
  said
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.toLowerCase().includes(word));

/** One of many, found by any part of its name: thousands of sites are no menu. */
export function FindChoice({
  name,
  value,
  options,
  none,
  choose,
  isFilter = false,
}: {
  readonly name: string;
  readonly value: string;
  readonly options: readonly Option[];
  /** What it means to choose nothing, such as `all`; without it something is always chosen. */
  readonly none?: string;
  readonly choose: (value: string) => void;
  /** Stands in a row of filters above a list. */
  readonly isFilter?: boolean;
}): JSX.Element {
  const id = useId();
  const [said, setSaid] = useState('');
  const all: readonly Option[] = none === undefined ? options : [{ value: '', words: none }, ...options];
  const found = all.filter((one) => hasWords(`${one.words} ${one.kind ?? ''}`, said));
  return (
    <label htmlFor={id} className={isFilter ? 'choice find-choice' : 'find-choice'}>
      <span className={isFilter ? 'qq' : undefined}>{name}</span>
      <Combobox immediate value={value} onChange={(one) => choose(one ?? value)} onClose={() => setSaid('')}>
        <ComboboxInput
          id={id}
          displayValue={(one: string) => all.find((each) => each.value === one)?.words ?? one}
          onFocus={(event) => event.currentTarget.select()}
          onChange={(event) => setSaid(event.currentTarget.value.trim())}
          autoComplete="off"
          spellCheck={false}
        />
        <ComboboxOptions anchor="bottom start" modal={false} className="find-options">
          {found.slice(0, MOST).map((one) => (
            <ComboboxOption key={one.value} value={one.value} className="find-option">
              <span>{one.words}</span>
              {one.kind !== undefined && <span className="qq">{one.kind}</span>}
            </ComboboxOption>
          ))}
          {found.length === 0 && <p className="q">Nothing has “{said}” in its name.</p>}
          {found.length > MOST && <p className="q">{found.length - MOST} more: type a part of the name.</p>}
        </ComboboxOptions>
      </Combobox>
    </label>
  );
}
