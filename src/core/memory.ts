/** One thing that is remembered beyond a run. */
export interface Memory<T> {
  /** What it was the last time; undefined where nothing is known. */
  recall(): Promise<T | undefined>;
  remember(value: T): Promise<void>;
}
