import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/react';
import { type JSX, useId, useState } from 'react';

/** Something that can be chosen. */
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
    <label
      htmlFor={id}
      className={isFilter ? 'flex items-center gap-6 text-small' : 'flex flex-col gap-2 text-small text-ink2'}
    >
      <span className={isFilter ? 'text-ink3' : undefined}>{name}</span>
      <Combobox immediate value={value} onChange={(one) => choose(one ?? value)} onClose={() => setSaid('')}>
        <ComboboxInput
          className={isFilter ? 'w-156' : undefined}
          id={id}
          displayValue={(one: string) => all.find((each) => each.value === one)?.words ?? one}
          onFocus={(event) => event.currentTarget.select()}
          onChange={(event) => setSaid(event.currentTarget.value.trim())}
          autoComplete="off"
          spellCheck={false}
        />
        <ComboboxOptions
          anchor="bottom start"
          modal={false}
          className="z-50 max-h-340! max-w-[calc(100vw-24px)] min-w-[max(var(--input-width),220px)] overflow-auto bg-slab py-4 shadow-pop [--anchor-gap:4px] [--anchor-padding:12px]"
        >
          {found.slice(0, MOST).map((one) => (
            <ComboboxOption
              key={one.value}
              value={one.value}
              className="flex min-h-28 cursor-pointer items-center justify-between gap-16 px-12 py-2 text-base data-focus:bg-accent-tint data-focus:shadow-at data-selected:font-semibold touch:min-h-44"
            >
              <span className="wrap-anywhere">{one.words}</span>
              {one.kind !== undefined && (
                <span className="flex-none text-small wrap-anywhere text-ink3">{one.kind}</span>
              )}
            </ComboboxOption>
          ))}
          {found.length === 0 && <p className="px-12 py-8 text-small text-ink2">Nothing has “{said}” in its name.</p>}
          {found.length > MOST && (
            <p className="px-12 py-8 text-small text-ink2">{found.length - MOST} more: type a part of the name.</p>
          )}
        </ComboboxOptions>
      </Combobox>
    </label>
  );
}
