/** A step that releases take: from an environment into the one after it, by name or by `E`. */
export interface Passage<E = string> {
  readonly from: E;
  readonly to: E;
}
