/** What a copy does not receive; kept on record, and never later taken for deleted. */
export interface LeftOut {
  readonly tables: readonly string[];
  readonly areas: readonly string[];
  readonly paths: readonly string[];
}
