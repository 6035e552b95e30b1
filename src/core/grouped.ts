/** Things that are alike in what a key of them says, together, in the order of the first of each. */
export function grouped<T>(all: readonly T[], keyOf: (each: T) => unknown): [T, ...T[]][] {
  const groups = new Map<string, [T, ...T[]]>();
  for (const each of all) {
    const key = JSON.stringify(keyOf(each));
    const group = groups.get(key);
    if (group === undefined) {
      groups.set(key, [each]);
    } else {
      group.push(each);
    }
  }
  return [...groups.values()];
}
