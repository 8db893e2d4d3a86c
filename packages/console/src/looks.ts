import { useSyncExternalStore } from 'react';

/** How the console looks in this browser, as who uses it wishes. */
interface Looks {
  readonly theme: 'system' | 'light' | 'dark';
  /** How high the rows of lists are. */
  readonly rows: 'close' | 'usual' | 'roomy';
  readonly clock: '24' | '12';
  /** The zone of the times that are shown: the browser's own, or UTC. */
  readonly zone: 'own' | 'UTC';
  /** Tells on the desktop when a transfer that one began has ended. */
  readonly desktop: 'yes' | 'no';
}

const STORED = 'tessarion looks';
const USUAL: Looks = { theme: 'system', rows: 'usual', clock: '24', zone: 'own', desktop: 'no' };

function read(): Looks {
  try {
    return { ...USUAL, ...(JSON.parse(localStorage.getItem(STORED) ?? '{}') as Partial<Looks>) };
  } catch {
    return USUAL;
  }
}

let current = read();
const watchers = new Set<() => void>();

/** Gives the page the theme and the heights that are wished for; the sheets do the rest. */
export function applyLooks(): void {
  const { dataset, style } = document.documentElement;
  style.colorScheme = current.theme === 'system' ? '' : current.theme;
  dataset.rows = current.rows;
}

/** The looks as they are now. */
export const looks = (): Looks => current;

/** Changes some of the looks, at once and for this browser's next visits. */
export function setLooks(wished: Partial<Looks>): void {
  current = { ...current, ...wished };
  localStorage.setItem(STORED, JSON.stringify(current));
  applyLooks();
  for (const watcher of watchers) watcher();
}

/** The looks, followed. */
export const useLooks = (): Looks =>
  useSyncExternalStore((watcher) => {
    watchers.add(watcher);
    return () => void watchers.delete(watcher);
  }, looks);

/** How high a row of a list is, in pixels; what fingers hit is higher. */
export const rowHeight = (): number =>
  window.matchMedia('(max-width: 720px)').matches ? 44 : { close: 26, usual: 32, roomy: 40 }[current.rows];
