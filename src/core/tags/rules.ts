import { expandTag, parseTemplate, placeholdersOf, type Placeholder, type Template, type TagValues } from './template';
import type { PlatformImage } from '../oci/content';
import type { Digest } from '../oci/digest';
import type { Tag } from '../oci/tag';

/** Whether a tag is written once, or follows the newest. */
export const tagKinds = ['fixed', 'moving'] as const;
export type TagKind = (typeof tagKinds)[number];

/**
 * What a moving tag follows: the commits of a branch, the releases by version (`2.4`, `latest`), or
 * whatever an environment serves (a tag with the environment's name; pre-releases too).
 */
export type Follows = 'branch' | 'release' | 'environment';

/** What hod.yaml can say of a moving tag. Only a rule with `{branch}` follows a branch. */
export const chosenFollows = ['environment', 'release'] as const satisfies readonly Follows[];
export type ChosenFollows = (typeof chosenFollows)[number];

/** A rule of `tags:` in hod.yaml. */
export type TagRule =
  | { readonly kind: 'fixed'; readonly template: Template }
  | { readonly kind: 'moving'; readonly template: Template; readonly follows: Follows };

/** The one rule for a component that another product builds: a tag that names its content keeps that from being cleaned up. */
export const includedTagRule: TagRule = { kind: 'fixed', template: parseTemplate('included-{digest:24}') };

/** The tag rules of a component in an environment. */
export type RulesOf = (component: string) => readonly TagRule[];

/** What a moving tag of this form follows. */
export function followedBy(template: Template, environment: string): Follows {
  if (placeholdersOf(template).includes('branch')) {
    return 'branch';
  }
  // `uat-{platform}` is the tag `uat` for one platform, and `{image}-uat` that of one of several images in a repository.
  const name = template.text.replace(/^\{(?:image|product)\}[-._]|[-._]\{(?:image|product|platform)\}/g, '');
  return name === environment ? 'environment' : 'release';
}

/** What a moving tag follows that a component has of its own: what is served of it, where the tag names neither branch nor version. */
export function followedByOwn(template: Template): Follows {
  const names = placeholdersOf(template);
  const ofVersion = (['version', 'major', 'minor', 'patch'] as const).some((name) => names.includes(name));
  return names.includes('branch') ? 'branch' : ofVersion ? 'release' : 'environment';
}

/** What the tags of a component may lead to. */
export interface TaggedContent {
  readonly digest: Digest;
  /** The image for each platform; the content itself where it is no index. */
  readonly images: readonly PlatformImage[];
}

/** A tag that a rule asks for. */
export interface WantedTag {
  readonly tag: Tag;
  readonly rule: TagRule;
  /** The image that it leads to; undefined where it leads to the whole content. */
  readonly image?: PlatformImage | undefined;
}

/** The tags that rules ask for, and the rules that ask for none because something is not known. */
export interface WantedTags {
  wanted: WantedTag[];
  /** Rules without a tag, and what is missing: the placeholder that nothing is known for, or a clean working copy. */
  omitted: { rule: TagRule; missing: string }[];
  /** See {@link taggedImages}. */
  images: readonly PlatformImage[];
}

/** What the tags of a build are made of. */
export interface BuildValues extends TagValues {
  /** The working copy held changes that no commit has: what was built from it may take no fixed tag. */
  dirty: boolean;
}

/** Whether a tag says nothing but which content it leads to: it is true wherever that came from. */
export function namesContentAlone(template: Template): boolean {
  const own: readonly Placeholder[] = ['digest', 'image', 'product'];
  const names = placeholdersOf(template);
  return names.includes('digest') && names.every((name) => own.includes(name));
}

/** Whether a rule asks for a tag for each platform. */
function isForPlatforms({ template }: TagRule): boolean {
  return placeholdersOf(template).includes('platform');
}

/** Returns those images of a component that rules give tags to, of whatever build: all, or none where no rule has `{platform}`. */
export function taggedImages(rules: readonly TagRule[], images: readonly PlatformImage[]): readonly PlatformImage[] {
  return rules.some(isForPlatforms) ? images : [];
}

/** Fills the rules of an environment in for one component: `{platform}` for each of its images. */
export function wantedTags(
  rules: readonly TagRule[],
  values: BuildValues,
  component: string,
  { digest, images }: TaggedContent,
): WantedTags {
  const result: WantedTags = { wanted: [], omitted: [], images: taggedImages(rules, images) };
  for (const rule of rules) {
    if (values.dirty && rule.kind === 'fixed' && !namesContentAlone(rule.template)) {
      result.omitted.push({ rule, missing: 'clean working copy' });
      continue;
    }
    // Without any platform, the expansion says so.
    for (const image of isForPlatforms(rule) && images.length > 0 ? images : [undefined]) {
      const own = { ...values, digest: image?.digest ?? digest, platform: image?.platform };
      const expansion = expandTag(rule.template, own, component);
      if ('missing' in expansion) {
        result.omitted.push({ rule, missing: expansion.missing });
        break;
      }
      if (!result.wanted.some((each) => each.tag === expansion.tag)) {
        result.wanted.push({ tag: expansion.tag, rule, image });
      }
    }
  }
  return result;
}
