/**
 * The seed of all that tests choose by chance. `npm test` plays the same each time, so that it passes whenever it is right;
 * the hostile tests and those on real servers play others, unless HOD_SEED names one.
 */
export const seed = Number(
  process.env['HOD_SEED'] ?? (process.env['HOD_TESTS'] === 'fixed' ? 20_261_126 : Date.now() % 2 ** 31),
);

/** Numbers from 0 to 1, the same ones for the same seed (the generator mulberry32). */
export function chance(from = seed): () => number {
  let state = from;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 2 ** 32;
  };
}
