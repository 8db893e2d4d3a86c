import type { Failure, Forecast, ForecastWishes } from '@tessarion/contract';
/** A forecast in the records. */
export interface ForecastRecord {
  readonly id: string;
  readonly state: 'computing' | 'ready' | 'failed';
  readonly from_path: string;
  readonly onto_path: string;
  readonly snapshot: string | null;
  /** The transfer that would be undone. */
  readonly undoes: string | null;
  readonly method: 'merge' | 'replace';
  readonly wishes: ForecastWishes;
  readonly person: string;
  readonly created_at: Date;
  readonly failure: Failure | null;
  readonly result: ForecastResult | null;
  /** The change request of which it becomes a revision, and who wanted it. */
  readonly request: string | null;
  readonly request_by: string | null;
  /** It is looked at again with the wishes that it had. */
  readonly follows: boolean;
}

/** What a forecast found, as it is kept. */
export type ForecastResult = Omit<
  Forecast,
  'id' | 'state' | 'from' | 'onto' | 'snapshot' | 'undoes' | 'method' | 'wishes' | 'createdAt' | 'failure'
>;
