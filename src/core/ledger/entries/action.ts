import type * as z from 'zod';
import type { Timestamp } from '../../time';
import type { FactKey, Facts } from '../facts';

/** The circumstances of an action: the part of its entry that every kind has. */
export interface Circumstances {
  readonly seq: number;
  readonly at: Timestamp;
  readonly actor: string;
}

/** One kind of action: all that is known about it. */
interface ActionKind<A> {
  /** The form in which it is kept in the ledger. Entries are never rewritten: what was once written stays readable. */
  readonly schema: z.ZodType<A>;
  /** The facts that its fold reads. */
  readonly reads: (action: A) => FactKey[];
  /** Adds what it says to `after`. `before` holds at least the facts that {@link reads} names. */
  readonly fold: (action: A, circumstances: Circumstances, before: Facts, after: Facts) => void;
}

/** A kind of action that can be asked about an action of any kind. */
export interface DefinedAction<S> {
  readonly schema: S;
  /** The facts that an action's fold reads; undefined where the action is of another kind. */
  reads(action: { kind: string }): FactKey[] | undefined;
  /** Folds an action in; does nothing where it is of another kind. */
  fold(action: { kind: string }, circumstances: Circumstances, before: Facts, after: Facts): void;
}

/** Describes one kind of action. */
export function defineAction<A extends { kind: string }, S extends z.ZodType<A>>(
  kind: A['kind'],
  { schema, reads, fold }: ActionKind<A> & { readonly schema: S },
): DefinedAction<S> {
  const isOwn = (action: { kind: string }): action is A => action.kind === kind;
  return {
    schema,
    reads: (action) => (isOwn(action) ? reads(action) : undefined),
    fold: (action, circumstances, before, after) => {
      if (isOwn(action)) {
        fold(action, circumstances, before, after);
      }
    },
  };
}
