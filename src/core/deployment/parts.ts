import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';

/** A repository of the product, and where its component is in the environment that files are pointed at. */
export interface Target {
  readonly component: string;
  /** A repository of the component, in whatever environment. */
  readonly repository: RepositoryName;
  /** Where the environment that is meant has it, and what it serves of it; undefined where it serves nothing of it. */
  readonly serves: { readonly repository: RepositoryName; readonly digest: Digest; readonly name: string } | undefined;
  /** Why references to it stay as they are: the product has no such component any more. */
  readonly retired?: string | undefined;
  /** The components that are in the repository, where they are several: the tag of a reference says which is meant. */
  readonly variants?: readonly Variant[];
}

/** One of several components in a repository. */
export interface Variant {
  readonly target: Target;
  /** Whether a rule of the component can give a tag. */
  readonly mayHave: (tag: string) => boolean;
}

/** A range of a text. */
export interface Range {
  readonly start: number;
  readonly end: number;
}

/** A value that may be replaced. */
export interface Value extends Range {
  /** How a text is written in its place; undefined where it cannot be. */
  readonly write: ((text: string) => string) | undefined;
}

/** A value that reads otherwise than it is written. Where it names a component of the product, that cannot be pointed. */
export interface Obstacle {
  readonly start: number;
  /** What it reads as. */
  readonly value: string;
  /** How it is written: what is found in that can be pointed. */
  readonly insteadOf?: string;
  /** It matters only where it is a repository and nothing else. */
  readonly bareOnly?: true;
  readonly why: string;
}

/** A part of a deployment file in which references are looked for. */
export interface Spot extends Range {
  /** Where a comment may follow it on its line, and the comment that does: its text, without the mark. */
  readonly comment?: (Range & { readonly text: string | undefined }) | undefined;
  /** The key that it is the value of, and values beside it that say which version is meant. */
  readonly key?: string | undefined;
  readonly tag?: Value | undefined;
  readonly digest?: Value | undefined;
  /** The registry that it is in, where that stands in a value of its own. */
  readonly registry?: Value | undefined;
}

/** A reference that leads elsewhere than it should. */
export interface Change {
  readonly component: string;
  /** The lines that change, from 1. */
  readonly lines: readonly [number, ...number[]];
  readonly from: string;
  readonly to: string;
  /** It leads into a repository of another environment; else to another digest, or to a tag. */
  readonly reason: 'other-environment' | 'stale';
}

/** A reference that cannot be pointed, and why. */
export interface Unpointed {
  readonly component: string;
  readonly line: number;
  readonly object: string;
  readonly why: string;
}

/** A reference to a repository of the product in a text. */
export interface Found extends Range {
  readonly target: Target;
  readonly tag: string | undefined;
  readonly digest: string | undefined;
  /** The value that its registry stands in, where that is another one. */
  readonly registry?: Value;
}
