import compareBuild from 'semver/functions/compare-build';
import inc from 'semver/functions/inc';
import major from 'semver/functions/major';
import minor from 'semver/functions/minor';
import parse from 'semver/functions/parse';
import patch from 'semver/functions/patch';
import prerelease from 'semver/functions/prerelease';
import * as z from 'zod';
import { HodError } from '../errors';
import type { VersionPart } from './version-part';

declare const versionBrand: unique symbol;
declare const lineBrand: unique symbol;

/** A semantic version (SemVer 2.0.0) without a leading v. */
export type Version = string & { readonly [versionBrand]: true };

/** A line of versions: `2` for all of 2.x, `2.4` for all of 2.4.x, and the empty text for all. */
export type VersionLine = string & { readonly [lineBrand]: true };

/** Whether `text` is a semantic version, written in full. */
export function isVersion(text: string): text is Version {
  return /^\d/.test(text) && parse(text) !== null;
}

/** A version at an edge. */
export const versionSchema = z.custom<Version>(
  (value) => typeof value === 'string' && isVersion(value),
  'must be a version',
);

/** Reads a version; a leading v is dropped. Throws a `usage` error if `text` is not one. */
export function parseVersion(text: string): Version {
  const version = versionNamed(text);
  if (version !== undefined) {
    return version;
  }
  throw new HodError('not-a-version', {
    what: 'this is not a version',
    object: text,
    why: 'a version is major.minor.patch, with a pre-release such as -rc.1 where it is one (SemVer 2.0.0)',
    next: 'write it in full, for example 2.4.0',
  });
}

/** The version that a name stands for (`v2.4.0` or `2.4.0`), if it is one. */
export function versionNamed(name: string): Version | undefined {
  const bare = name.replace(/^v/, '');
  return isVersion(bare) ? bare : undefined;
}

/** Precedence of two versions: negative, zero or positive (SemVer 2.0.0 §11; build metadata last, to be total). */
export function compareVersions(a: Version, b: Version): number {
  return compareBuild(a, b);
}

/** Whether a version is a pre-release (SemVer 2.0.0 §9). */
export function isPrerelease(version: Version): boolean {
  return prerelease(version) !== null;
}

/** The numbers of a version, as text. */
export function versionNumbers(version: Version): Record<'major' | 'minor' | 'patch', string> {
  return {
    major: String(major(version)),
    minor: String(minor(version)),
    patch: String(patch(version)),
  };
}

/** The release that follows a release (SemVer 2.0.0 §6–8); the first where there is none. */
export function nextVersion(part: VersionPart, after: Version | undefined): Version {
  const next = inc(after ?? '0.0.0', part);
  if (next === null || !isVersion(next)) {
    throw new Error(`no version follows ${after ?? 'nothing'}`);
  }
  return next;
}

/** Whether `text` is a line of versions. */
export function isLine(text: string): text is VersionLine {
  return text === '' || /^(0|[1-9]\d*)(\.(0|[1-9]\d*))?$/.test(text);
}

/** The line that every version is on. */
export const everyVersion = lineFrom('');

/** The lines that a version is on: all, its major, and its minor (``, `2`, `2.4`). */
export function versionLinesOf(version: Version): VersionLine[] {
  const { major, minor } = versionNumbers(version);
  return [everyVersion, lineFrom(major), lineFrom(`${major}.${minor}`)];
}

/** Whether a version is a release (no pre-release) on a line. */
export function isReleaseOn(line: VersionLine, version: Version): boolean {
  return !isPrerelease(version) && versionLinesOf(version).includes(line);
}

/** Reads a line of versions: `2` or `2.4`. Throws a `usage` error if `text` is not one. */
export function parseLine(text: string): VersionLine {
  if (text === '' || !isLine(text)) {
    throw new HodError('not-a-line', {
      what: 'this is not a line of versions',
      object: text,
      why: 'a line is a major version, or a major and a minor one',
      next: 'write 2 for all of 2.x, or 2.3 for all of 2.3.x',
    });
  }
  return text;
}

function lineFrom(text: string): VersionLine {
  if (!isLine(text)) {
    throw new Error(`${text} is not a line of versions`);
  }
  return text;
}
