import { useEffect, useRef } from 'react';

/** Whether a field has the focus, where single keys rest. */
const isTyping = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement &&
  (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName));

const STORED = 'tessarion single keys';
export const areKeysOn = (): boolean => localStorage.getItem(STORED) !== 'off';
export const switchKeys = (on: boolean): void => localStorage.setItem(STORED, on ? 'on' : 'off');

/** Acts on single keys and on two-key sequences such as `g f`; resting while a field or dialog has the focus. */
export function useKeys(keys: Readonly<Record<string, (event: KeyboardEvent) => void>>): void {
  const current = useRef(keys);
  current.current = keys;
  useEffect(() => {
    let first = '';
    let firstAt = 0;
    const press = (event: KeyboardEvent): void => {
      if (event.ctrlKey || event.metaKey || event.altKey || !areKeysOn()) return;
      if (isTyping(event.target) || document.querySelector('[role=dialog]')) return;
      const sequence = performance.now() - firstAt < 900 ? `${first} ${event.key}` : event.key;
      const act = current.current[sequence] ?? current.current[event.key];
      [first, firstAt] = [event.key, performance.now()];
      if (!act) return;
      event.preventDefault();
      act(event);
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, []);
}
