/** What the values of a column look like, where that is something of people. */
export type PersonalValues = 'mail addresses' | 'internet addresses' | 'phone numbers' | 'names of people';

const MAIL = /^[^\s@]+@[^\s@]+\.[a-z]{2,}$/i;
const INTERNET_ADDRESS = /^(\d{1,3}(\.\d{1,3}){3}|(?=.*:.*:)[\da-f]{0,4}(:[\da-f]{0,4}){2,7})$/i;
/** Seven digits and more, with a plus before them or signs between them; a day is none. */
const PHONE = /^(?!\d{4}-\d{2}-\d{2}\b)(?=(?:\D*\d){7})(?=\+|\d*[\s()/-])\+?[\d\s()/-]{7,20}$/;
/** One to five words, each with a capital, but for such as stand within names. */
const PERSON =
  /^\p{Lu}[\p{L}'’.-]*(?: (?:\p{Lu}[\p{L}'’.-]*|van|von|der|den|ter|zu|de|da|di|do|du|la|le|el|al|bin|ibn|y|av|af))*$/u;
const [LONGEST_NAME, MOST_WORDS] = [60, 5];

const isPerson = (value: string): boolean =>
  value.length <= LONGEST_NAME && PERSON.test(value) && value.split(' ').length <= MOST_WORDS;

/** A share of the values that makes a form more than chance. */
const MOST = 0.8;
const HALF = 0.5;

/**
 * Tells by samples of a column's values whether they are of people, whatever the column is called.
 *
 * @param samples values as text
 * @param isOfVisitors whether visitors make its rows: only there capitals are taken for names, since titles have them too
 */
export function personalValues(samples: readonly string[], isOfVisitors: boolean): PersonalValues | undefined {
  const values = samples.map((one) => one.trim()).filter((one) => one !== '');
  if (values.length === 0) return undefined;
  const share = (is: (value: string) => boolean): number => values.filter(is).length / values.length;
  if (share((one) => MAIL.test(one)) >= HALF) return 'mail addresses';
  if (share((one) => INTERNET_ADDRESS.test(one)) >= MOST) return 'internet addresses';
  if (!isOfVisitors) return undefined;
  if (share((one) => PHONE.test(one)) >= MOST) return 'phone numbers';
  // States and kinds come again and again; people seldom do.
  const isVaried = new Set(values).size >= HALF * values.length;
  return isVaried && share(isPerson) >= MOST ? 'names of people' : undefined;
}
