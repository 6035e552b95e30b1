import * as z from 'zod';

/**
 * How a component comes into an environment. `takes-over`: the environment serves it from now on.
 * `beside`: it is the newest of its own line of versions or branch, and the environment goes on
 * serving something else. `held`: something newer of its own line or branch is there.
 */
export const ways = ['takes-over', 'beside', 'held'] as const;
export type Way = (typeof ways)[number];

/** A way at an edge. */
export const waySchema = z.enum(ways);
