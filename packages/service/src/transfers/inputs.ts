/** What a push, pull or restore is given. */
export interface PushInput {
  /** Absent for a restore, which compares with the snapshot afresh. */
  readonly forecast?: string;
  readonly snapshot?: string;
  readonly from: string;
}

/** What a preview is given. */
export interface PreviewInput {
  readonly request: string;
  readonly revision: number;
  /** Of that revision: exactly what it shows is written. */
  readonly forecast: string;
  /** The environment that the request would write onto. */
  readonly of: string;
  readonly from: string;
  /** The transfer that the request takes back. */
  readonly undoes: string | null;
}
