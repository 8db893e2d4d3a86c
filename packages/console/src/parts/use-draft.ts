import { useState } from 'react';
import { useLocation } from 'react-router';

/**
 * What is being written in a room, kept for as long as the browser's tab is open: neither an outage nor a way to another room
 * and back takes it away. Nothing written is nothing kept.
 *
 * @param field which of the room's fields it is
 */
export function useDraft(field: string): readonly [text: string, setText: (text: string) => void] {
  const { pathname } = useLocation();
  const key = `tessarion draft ${pathname} ${field}`;
  const [text, setText] = useState(() => sessionStorage.getItem(key) ?? '');
  return [
    text,
    (next) => {
      setText(next);
      if (next === '') sessionStorage.removeItem(key);
      else sessionStorage.setItem(key, next);
    },
  ];
}
