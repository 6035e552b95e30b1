import type { Tag } from '../oci/tag';
import { compareVersions, versionNamed } from './version';

/** Tags that look as if they were written once: they end with a whole version, or are the id of a commit. */
const looksFixed = /^(?:[a-z]+-)?[0-9a-f]{7,64}$|-v?\d+\.\d+\.\d+$/;

/** Whether a tag moves, by what it looks like, where nothing is known of it. */
export function kindByForm(tag: Tag): 'fixed' | 'moving' {
  return versionNamed(tag) !== undefined || looksFixed.test(tag) ? 'fixed' : 'moving';
}

/** The order in which tags are shown: versions, the highest first, before all other names. */
export function compareTags(a: Tag, b: Tag): number {
  const [one, other] = [versionNamed(a), versionNamed(b)];
  if (one !== undefined && other !== undefined) {
    return compareVersions(other, one);
  }
  if (one !== undefined || other !== undefined) {
    return one === undefined ? 1 : -1;
  }
  return a < b ? -1 : 1;
}

/** The first of many tags in the order in which they are shown; so many, whatever comes, and how many came. */
export class FirstTags {
  count = 0;
  private kept: Tag[] = [];

  constructor(private readonly most: number) {}

  /** Takes note of a tag. */
  add(tag: Tag): void {
    this.count += 1;
    this.kept.push(tag);
    if (this.kept.length >= 2 * this.most + 1000) {
      this.kept = this.first();
    }
  }

  /** Those that are shown first, in their order. */
  first(): Tag[] {
    return [...this.kept].sort(compareTags).slice(0, this.most);
  }
}
