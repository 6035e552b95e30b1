import { compareVersions, versionNamed, type Version } from './version';

/** How the git tags of a product name its versions. */
export interface VersionTags {
  /** What stands before and after the version; where it is not given, a `v` may stand before it. */
  readonly affixes: readonly [before: string, after: string] | undefined;
}

/** How git tags name versions as a rule: `v2.4.0` or `2.4.0`. */
export const usualVersionTags: VersionTags = { affixes: undefined };

/** Reads how git tags name versions: a text with `{version}` in it, such as `timetable/v{version}`. */
export function parseVersionTags(text: string): VersionTags {
  const [before = '', after = ''] = text.split('{version}');
  return { affixes: [before, after] };
}

/** The version that a git tag names, if it names one of this product. */
export function versionOfTag({ affixes }: VersionTags, tag: string): Version | undefined {
  if (affixes === undefined) {
    return versionNamed(tag);
  }
  const middle = between(affixes, tag);
  return middle === undefined || middle.startsWith('v') ? undefined : versionNamed(middle);
}

/** The git tag that names a version of this product. */
export function tagOfVersion({ affixes: [before, after] = ['v', ''] }: VersionTags, version: Version): string {
  return `${before}${version}${after}`;
}

/** The highest version among git tags, if one of them names one. */
export function highestVersionOf(rule: VersionTags, tags: readonly string[]): Version | undefined {
  const versions = tags.map((tag) => versionOfTag(rule, tag)).filter((version) => version !== undefined);
  return versions.sort(compareVersions).at(-1);
}

/** The git tags that look as if they were meant to name a version, and name none. */
export function nearVersionTags(rule: VersionTags, tags: readonly string[]): string[] {
  const looksMeant = (tag: string): boolean => {
    const middle = rule.affixes === undefined ? tag.replace(/^v/, '') : between(rule.affixes, tag);
    return middle !== undefined && /^v?\d/.test(middle);
  };
  return tags.filter((tag) => versionOfTag(rule, tag) === undefined && looksMeant(tag));
}

function between([before, after]: readonly [string, string], tag: string): string | undefined {
  const isLong = tag.length >= before.length + after.length;
  return isLong && tag.startsWith(before) && tag.endsWith(after)
    ? tag.slice(before.length, tag.length - after.length)
    : undefined;
}
