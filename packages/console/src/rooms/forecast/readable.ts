import type { ForecastField } from '@tessarion/contract';
import { exact } from '../../parts/moments.js';

const BLOCKS = 'p,div,section,article,h1,h2,h3,h4,h5,h6,li,tr,br,hr,blockquote,pre,figure,table,ul,ol,dt,dd';

/** The words of an HTML page, a block a line; pictures by what they show. Nothing of it is run or fetched. */
function textOfPage(html: string): string {
  const page = new DOMParser().parseFromString(html, 'text/html');
  for (const one of page.querySelectorAll('script,style,template')) one.remove();
  for (const picture of page.querySelectorAll('img'))
    picture.replaceWith(`[${picture.alt || picture.getAttribute('src') || 'picture'}]`);
  for (const item of page.querySelectorAll('li')) item.prepend('• ');
  for (const block of page.querySelectorAll(BLOCKS)) block.append('\n');
  return (page.body.textContent ?? '')
    .split('\n')
    .map((line) => line.replace(/\s+/g, ' ').trim())
    .filter((line) => line !== '')
    .join('\n');
}

/** A moment as a database writes it, in the viewer's zone; as it stands where it is none, or says no zone. */
function momentOf(value: string): string {
  const iso = value.replace(' ', 'T').replace(/([+-]\d\d)$/, '$1:00');
  return !/(?:Z|[+-]\d\d:?\d\d)$/.test(iso) || Number.isNaN(Date.parse(iso)) ? value : exact(iso);
}

/** An amount with its thousands apart, every digit as it stands. */
const amountOf = (value: string): string =>
  /^-?\d+(\.\d+)?$/.test(value) ? value.replace(/^-?\d+/, (whole) => whole.replace(/\B(?=(?:\d{3})+$)/g, ',')) : value;

/**
 * A value as people read it.
 *
 * @param isWritten as it is written, whatever it is
 */
export function readable(show: ForecastField['show'], value: string | null, isWritten: boolean): string | null {
  if (value === null || value === '' || isWritten) return value;
  if (show === 'page') return textOfPage(value);
  if (show === 'moment') return momentOf(value);
  return show === 'money' ? amountOf(value) : value;
}

/** Whether two values of a field that differ would be read alike, such as pages that lead elsewhere: those are shown as they are written. */
export function readsAlike({ show, base, source, before, after }: ForecastField): boolean {
  const values = [...new Set([base, source, before, after])];
  return new Set(values.map((value) => readable(show, value, false))).size < values.length;
}
