import { type JSX, useEffect, useRef, useState } from 'react';
import { useNavigation } from 'react-router';
import { useKeys } from '../keys.js';
import { Icon } from './icon.js';
import type { View } from './use-view.js';

/** Narrows a list by words; `/` leads to it, Escape out of it. */
export function FilterField({
  name,
  placeholder = name,
  does,
  text,
  change,
  className = 'w-256',
}: {
  readonly name: string;
  readonly placeholder?: string;
  /** For the list of keys. */
  readonly does: string;
  readonly text: string;
  readonly change: (text: string) => void;
  readonly className?: string;
}): JSX.Element {
  const field = useRef<HTMLInputElement>(null);
  useKeys([{ key: '/', does, act: () => field.current?.focus() }]);
  return (
    <label
      className={`flex h-28 min-w-0 items-center gap-8 rounded-sm border border-rim px-8 text-ink3 focus-within:border-accent focus-within:text-ink focus-within:outline-2 focus-within:outline-accent focus-within:outline-offset-1 max-desk:h-44 max-desk:w-full ${className}`}
    >
      <Icon name="find" />
      <input
        ref={field}
        className="h-26 min-h-0 border-0 bg-transparent p-0 outline-0"
        value={text}
        maxLength={100}
        onChange={(event) => change(event.target.value)}
        onKeyDown={(event) => event.key === 'Escape' && event.currentTarget.blur()}
        placeholder={placeholder}
        aria-label={name}
      />
      <kbd className="no-hover:hidden">/</kbd>
    </label>
  );
}

/** Narrows a list by words that its address holds; the list follows once one pauses. */
export function FindInView({
  view,
  name,
  placeholder,
}: {
  readonly view: View;
  readonly name: string;
  readonly placeholder: string;
}): JSX.Element {
  const said = view.get('find');
  const [text, setText] = useState(said);
  // Who has set out for another room is not called back.
  const isLeaving = useNavigation().state !== 'idle';
  useEffect(() => {
    if (isLeaving || text.trim() === said) return;
    const pause = setTimeout(() => view.set('find', text.trim()), 250);
    return () => clearTimeout(pause);
  });
  return <FilterField name={name} placeholder={placeholder} does="Find" text={text} change={setText} />;
}
