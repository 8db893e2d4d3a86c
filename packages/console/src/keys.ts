import { type RefObject, useEffect, useRef } from 'react';

/** What a key does where one is. */
export interface KeyAct {
  /**
   * As {@link KeyboardEvent.key} names it, `Space` for the blank, with `Shift` before that and `Ctrl` (or the command key)
   * before any; or two keys after one another, such as `g f`.
   */
  readonly key: string;
  /** For the list of keys: `Choose or leave out`. */
  readonly does: string;
  /** Whether it is so in every room. */
  readonly isEverywhere?: boolean;
  /** @returns false where there was nothing to do: the key is then the browser's, or another act's */
  readonly act: (event: KeyboardEvent) => unknown;
}

const STORED = 'tessarion single keys';
/** Whether single keys do something, as this browser's user wishes it. */
export const areKeysOn = (): boolean => localStorage.getItem(STORED) !== 'off';
/** Lets single keys do something in this browser, or nothing. */
export const switchKeys = (on: boolean): void => localStorage.setItem(STORED, on ? 'on' : 'off');

/** The acts of what is on the screen, in the order in which it came. */
const bound = new Set<RefObject<readonly KeyAct[]>>();

/** What keys do now, each key once. */
export const boundKeys = (): readonly KeyAct[] => [
  ...new Map([...bound].flatMap((acts) => acts.current).map((one) => [one.key, one])).values(),
];

/** Binds keys as long as something is on the screen. Single keys rest while one types, or in a dialog. */
export function useKeys(acts: readonly KeyAct[]): void {
  const current = useRef(acts);
  current.current = acts;
  useEffect(() => {
    bound.add(current);
    return () => void bound.delete(current);
  }, []);
}

const TYPED = 'input:not([type=checkbox], [type=radio], [type=button], [type=submit]), textarea, select';
/** What has a use of its own for Enter and Space. */
const OPERATED =
  'a[href], button, summary, input, [role=option], [role=menuitem], [role=tab], [role=checkbox], [role=switch]';

const isIn = (target: EventTarget | null, kind: string): boolean =>
  target instanceof HTMLElement && (target.isContentEditable || target.closest(kind) !== null);

function nameOf({ key, shiftKey, ctrlKey, metaKey }: KeyboardEvent): string {
  const name = key === ' ' ? `${shiftKey ? 'Shift ' : ''}Space` : key;
  return ctrlKey || metaKey ? `Ctrl ${key.length === 1 ? name.toLowerCase() : name}` : name;
}

const SEQUENCE_MS = 900;
let prefix: { readonly key: string; readonly at: number } | undefined;

function press(event: KeyboardEvent): void {
  const { key, target } = event;
  if (event.defaultPrevented || event.isComposing || event.altKey || ['Shift', 'Control', 'Meta'].includes(key)) return;
  const isChord = event.ctrlKey || event.metaKey;
  if (document.querySelector('[role=dialog]') !== null) return;
  if (!isChord && (!areKeysOn() || isIn(target, TYPED))) return;
  if (!isChord && (key === 'Enter' || key === ' ') && isIn(target, OPERATED)) return;
  const name = nameOf(event);
  const begun = prefix && performance.now() - prefix.at < SEQUENCE_MS ? prefix.key : undefined;
  prefix = undefined;
  const acts = [...bound].flatMap((one) => one.current);
  if (begun === undefined && acts.some((one) => one.key.startsWith(`${name} `))) {
    prefix = { key: name, at: performance.now() };
    event.preventDefault();
    return;
  }
  // The second key of a sequence means nothing else.
  if (begun !== undefined) event.preventDefault();
  const wanted = begun === undefined ? name : `${begun} ${name}`;
  if (acts.some((one) => one.key === wanted && one.act(event) !== false)) event.preventDefault();
}

window.addEventListener('keydown', press);
