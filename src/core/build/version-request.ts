import type { Version, VersionLine } from '../tags/version';
import type { VersionPart } from '../tags/version-part';

/** Which version a build asks for. */
export type VersionRequest =
  /** `near`: git tags that look meant for a version, and name none. */
  | { readonly kind: 'none'; readonly near: readonly string[] }
  /** This one. `source`: who says so. */
  | { readonly kind: 'given'; readonly version: Version; readonly source: string }
  /** The next one of a line of versions. */
  | { readonly kind: 'next'; readonly part: VersionPart; readonly line: VersionLine };

/** Why git tags name no version. */
export function noVersion(near: readonly string[]): string {
  const [first] = near;
  return first === undefined
    ? 'no git tag names one'
    : `the git tag ${first} is none: a version is major.minor.patch, such as 2.4.0`;
}
