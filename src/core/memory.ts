/** A value that is remembered beyond a run. */
export interface Memory<T> {
  /** Returns the value that was remembered last; undefined where nothing is known. */
  recall(): Promise<T | undefined>;
  remember(value: T): Promise<void>;
}
