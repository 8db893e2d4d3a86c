/** A row that its table would not take, and why, in words that follow its name. */
export interface Misfit {
  readonly table: string;
  readonly key: string;
  readonly what: string;
}

/** A misfit as a sentence. */
export const misfitText = ({ table, key, what }: Misfit): string => `${table} ${key}: ${what}`;
