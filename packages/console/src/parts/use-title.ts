import { useEffect } from 'react';

/** Calls the browser's tab by a thing's own title, once that is known: after the frame has called it by the room. */
export function useTitle(title: string | undefined): void {
  useEffect(() => {
    if (title === undefined) return;
    const timer = setTimeout(() => {
      document.title = `${title} · Tessarion`;
    });
    return () => clearTimeout(timer);
  }, [title]);
}
