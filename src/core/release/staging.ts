import type { Digest } from '../oci/digest';
import { isTag, type Tag } from '../tags/tag';

/** What something that is published is made of. */
export interface Requirement {
  /** `os/arch[/variant]`; empty where hod.yaml does not say, or it is a bundle. */
  readonly platforms: readonly string[];
  /** How many build outputs it has. */
  readonly outputs: number;
}

/** What is still missing of something, in words: platforms, or the number of outputs. */
export function lacking(
  { platforms, outputs }: Requirement,
  parts: readonly { readonly platforms: readonly string[] }[],
): string[] {
  if (platforms.length > 0) {
    const there = new Set(parts.flatMap((part) => part.platforms));
    return platforms.filter((platform) => !there.has(platform));
  }
  if (parts.length > 0 && parts.length >= outputs) {
    return [];
  }
  return [outputs === 1 ? 'its build output' : `${outputs - parts.length} of its ${outputs} build outputs`];
}

/** The tag that keeps staged content from being collected as garbage until it is sealed. */
export function protectionTag(digest: Digest): Tag {
  const tag = `hod-staged-${digest.slice(digest.indexOf(':') + 1).slice(0, 24)}`;
  if (!isTag(tag)) {
    throw new Error(`${tag} is not a tag`);
  }
  return tag;
}
