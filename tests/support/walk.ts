import type { Page } from 'playwright-core';

/** What a walk by keyboard found wrong. */
export interface WalkFaults {
  /** Controls that are seen and that no Tab leads to. */
  readonly unreached: readonly string[];
  /** Where Tab does not go on. */
  readonly trapped: readonly string[];
  /** Controls on which Enter or Space does not what a press does. */
  readonly deaf: readonly string[];
  /** Controls that have the focus without showing it. */
  readonly unmarked: readonly string[];
}

/** More Tabs than a room has controls. */
const MOST_TABS = 400;

/**
 * Walks over a page by keyboard: every control that is seen is reached by Tab, shows that it has the focus, lets one go on,
 * and is pressed by Enter, buttons also by Space. What is pressed is only noted, and does nothing.
 */
export async function walk(page: Page): Promise<WalkFaults> {
  await page.evaluate(prepare);
  // From the first control on: what has the focus when one comes in is somewhere in the middle.
  await page.evaluate(() => document.querySelector<HTMLElement>('a[href], button')?.focus());
  await page.evaluate(note);
  for (let i = 0; i < MOST_TABS; i++) {
    await page.keyboard.press('Tab');
    if (await page.evaluate(note)) break;
  }
  const pressed = await page.evaluate(() => (window as unknown as Walked).walked.pressed.length);
  for (let i = 0; i < pressed; i++)
    for (const key of ['Enter', 'Space']) {
      if (!(await page.evaluate(aim, [i, key] as const))) continue;
      await page.keyboard.press(key);
      await page.evaluate(hear, key);
    }
  return page.evaluate(finish);
}

interface Walked {
  walked: {
    reached: Set<Element>;
    /** What is pressed one by one: of many that are alike the first. */
    pressed: HTMLElement[];
    unmarked: string[];
    trapped: string[];
    deaf: string[];
    last: Element | null;
    aimed: Element | null;
    /** Whether what is aimed at was open. */
    was: string | null;
    isHeard: boolean;
    name: (one: Element) => string;
    stop: (event: Event) => void;
  };
}

function prepare(): void {
  const name = (one: Element): string =>
    `${one.tagName.toLowerCase()} ${one.getAttribute('aria-label') ?? one.textContent?.trim().slice(0, 40) ?? ''}`;
  const stop = (event: Event): void => {
    const { walked } = window as unknown as Walked;
    const target = event.target as Element | null;
    if (walked.aimed && target && (walked.aimed === target || walked.aimed.contains(target))) walked.isHeard = true;
    event.preventDefault();
    event.stopImmediatePropagation();
  };
  (window as unknown as Walked).walked = {
    reached: new Set(),
    pressed: [],
    unmarked: [],
    trapped: [],
    deaf: [],
    last: null,
    aimed: null,
    was: null,
    isHeard: false,
    name,
    stop,
  };
}

/** Notes what has the focus. @returns whether the walk has come to its end */
function note(): boolean {
  const { walked } = window as unknown as Walked;
  const at = document.activeElement as HTMLElement | null;
  if (!at || at === document.body) return walked.reached.size > 0;
  // Such a field is some fields to Tab: day, month and year.
  if (at === walked.last && at.matches('[type=date], [type=time], [type=datetime-local]')) return false;
  if (at === walked.last) {
    walked.trapped.push(walked.name(at));
    return true;
  }
  walked.last = at;
  if (walked.reached.has(at)) return true;
  walked.reached.add(at);
  const isMarked = (one: Element | null): boolean => {
    if (!one) return false;
    const { outlineStyle, outlineWidth } = getComputedStyle(one);
    return outlineStyle !== 'none' && Number.parseFloat(outlineWidth) > 0;
  };
  // A box that is drawn shows it beside the one that has it; a field in its frame.
  const shows = [at, at.nextElementSibling, at.parentElement, at.closest('label')];
  if (!shows.some(isMarked)) walked.unmarked.push(walked.name(at));
  const isPressable = at.matches('a[href], button');
  const alike = walked.pressed.filter((one) => one.tagName === at.tagName && one.className === at.className).length;
  if (isPressable && alike < 2) walked.pressed.push(at);
  return false;
}

/** Gives the focus to one of those that are to be pressed. @returns whether the key is one of its own */
function aim([i, key]: readonly [number, string]): boolean {
  const { walked } = window as unknown as Walked;
  const one = walked.pressed[i];
  // In the list of items Space chooses, as the list of keys says.
  if (!one?.isConnected || (key === 'Space' && !one.matches('button:not([data-item] *)'))) return false;
  // Menus and the like open by a key of their own, without a click.
  if (one.hasAttribute('aria-haspopup')) return false;
  window.addEventListener('click', walked.stop, { capture: true });
  walked.aimed = one;
  walked.isHeard = false;
  walked.was = one.getAttribute('aria-expanded');
  one.focus();
  return document.activeElement === one;
}

function hear(key: string): void {
  const { walked } = window as unknown as Walked;
  window.removeEventListener('click', walked.stop, { capture: true });
  // What opens something by its keys does so without a click.
  if (walked.aimed?.getAttribute('aria-expanded') !== walked.was) walked.isHeard = true;
  if (!walked.isHeard && walked.aimed) walked.deaf.push(`${key} on ${walked.name(walked.aimed)}`);
  walked.aimed = null;
}

function finish(): WalkFaults {
  const { walked } = window as unknown as Walked;
  const isSeen = (one: HTMLElement): boolean =>
    one.checkVisibility({ visibilityProperty: true, contentVisibilityAuto: true }) && one.getClientRects().length > 0;
  const controls = [
    ...document.querySelectorAll<HTMLElement>('a[href], button, input, select, textarea, [tabindex="0"]'),
  ].filter(
    (one) =>
      isSeen(one) &&
      !one.matches(':disabled, [tabindex="-1"]') &&
      // Of radio buttons one is reached by Tab, the others by arrows.
      !(one.matches('[type=radio]') && !(one as HTMLInputElement).checked),
  );
  return {
    unreached: controls.filter((one) => !walked.reached.has(one)).map(walked.name),
    trapped: walked.trapped,
    deaf: walked.deaf,
    unmarked: walked.unmarked,
  };
}
