import type { Tag } from '../oci/tag';
import { VersionTagReader } from '../tags/reading';
import type { TagRule } from '../tags/rules';
import { expandTag, placeholdersOf, type Placeholder } from '../tags/template';
import type { Version } from '../tags/version';

/** A moving tag that was there before the ledger began, and what it shows. */
export interface ShowingTag {
  readonly tag: Tag;
  /** What the environment serves, the newest of a branch, or the newest on a line of versions. */
  readonly shows: 'served' | 'branch' | 'line';
  /** The branch that it follows. */
  readonly branch?: string | undefined;
}

/** What tags are read by. */
export interface TagReading {
  readonly product: string;
  readonly component: string;
  /** Every tag of the repository. */
  readonly tags: ReadonlySet<Tag>;
  /** The followed branches, those that hod.yaml names first. */
  readonly branches: readonly string[];
}

/**
 * Finds the moving tags of an environment in a repository, the one that shows best what is served first: the tag that follows the
 * environment, then those of branches, then other tags of one name, which follow releases alone, then those of lines of versions,
 * the highest first.
 */
export function showingTags(rules: readonly TagRule[], reading: TagReading): ShowingTag[] {
  const moving = rules.filter((rule) => rule.kind === 'moving');
  const alone = moving.filter(({ template }) => holdsOnly(placeholdersOf(template), []));
  const ofEnvironment = alone.filter(({ follows }) => follows === 'environment');
  const others = alone.filter(({ follows }) => follows !== 'environment');
  const ofBranches = moving.filter(
    ({ template, follows }) => follows === 'branch' && holdsOnly(placeholdersOf(template), ['branch']),
  );
  const found = [
    ...ofEnvironment.flatMap((rule) => expanded(rule, undefined, reading)),
    ...reading.branches.flatMap((branch) => ofBranches.flatMap((rule) => expanded(rule, branch, reading))),
    ...others.flatMap((rule) => expanded(rule, undefined, reading)),
    ...lineTags(moving, reading),
  ];
  return [...new Map(found.map((each) => [each.tag, each] as const).reverse()).values()].reverse();
}

function holdsOnly(names: readonly Placeholder[], more: readonly Placeholder[]): boolean {
  return names.every((name) => name === 'image' || name === 'product' || more.includes(name));
}

function expanded({ template }: TagRule, branch: string | undefined, reading: TagReading): ShowingTag[] {
  const { product, component, tags } = reading;
  const expansion = expandTag(template, { product, branch }, component);
  return 'tag' in expansion && tags.has(expansion.tag)
    ? [{ tag: expansion.tag, shows: branch === undefined ? 'served' : 'branch', branch }]
    : [];
}

function lineTags(rules: readonly TagRule[], { product, component, tags }: TagReading): ShowingTag[] {
  const readers = rules.map(({ template }) => new VersionTagReader(template, { component, product }));
  const found = [...tags].flatMap((tag) => {
    const numbers = readers.map((reader) => reader.read(tag)?.numbers).find((each) => each !== undefined);
    return numbers === undefined ? [] : [{ tag, numbers }];
  });
  return found.sort((a, b) => compareNumbers(b.numbers, a.numbers)).map(({ tag }) => ({ tag, shows: 'line' }));
}

/** Of two lines of one length, the later is higher; the tag of a whole major version stands for the highest of it. */
function compareNumbers(a: readonly number[], b: readonly number[]): number {
  for (let at = 0; at < Math.max(a.length, b.length); at += 1) {
    const difference = (a[at] ?? Infinity) - (b[at] ?? Infinity);
    if (difference !== 0 && !Number.isNaN(difference)) {
      return difference;
    }
  }
  return 0;
}

/** Finds the tags of a repository that name whole versions, by the rules of its environment or by their form. */
export function versionTagsIn(
  rules: readonly TagRule[],
  { product, component, tags }: Pick<TagReading, 'product' | 'component' | 'tags'>,
  byForm: (tag: Tag) => Version | undefined,
): Map<Version, Tag> {
  const readers = rules
    .filter(({ kind }) => kind === 'fixed')
    .map(({ template }) => new VersionTagReader(template, { component, product }));
  const found = new Map<Version, Tag>();
  for (const tag of tags) {
    const own = readers.map((reader) => reader.read(tag)?.version).find((each) => each !== undefined);
    const version = own ?? byForm(tag);
    if (version !== undefined && (own !== undefined || !found.has(version))) {
      found.set(version, tag);
    }
  }
  return found;
}
