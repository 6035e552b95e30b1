import type { Digest } from '../../oci/digest';
import { digestFact, holdersKept, type FactKey, type Facts, type KnownDigest } from '../facts';
import type { ComponentDigest, ReleaseId, ReleaseImage } from '../release';

/** A release, and the content that it holds. */
interface HeldContent {
  readonly release: ReleaseId;
  readonly components: readonly ComponentDigest[];
  readonly images?: readonly ReleaseImage[] | undefined;
}

/** The facts that the fold of the digests of a release reads. */
export function factsOfDigests({ components, images = [] }: HeldContent): FactKey[] {
  const digests = [...components, ...images].map(({ digest }) => digest);
  const configs = images.flatMap(({ config }) => config ?? []);
  return [...new Set([...digests, ...configs])].map(digestFact);
}

/** Folds in what the digests of a release are, so that each is found by its first digits. */
export function foldDigests({ release, components, images = [] }: HeldContent, before: Facts, after: Facts): void {
  for (const { component, digest } of components) {
    fold(before, after, { digest, is: 'component', component }, (known) => {
      const { releases = [], count = 0 } = known;
      return releases.includes(release)
        ? known
        : { ...known, releases: keptOf([...releases, release]), count: count + 1 };
    });
    for (const image of images.filter((each) => each.component === component)) {
      const { platform, config } = image;
      if (image.digest !== digest) {
        foldPart(before, after, { digest: image.digest, is: 'image', platform }, digest);
      }
      if (config !== undefined) {
        foldPart(before, after, { digest: config, is: 'config', platform }, image.digest);
      }
    }
  }
}

/** Folds in what refers to a manifest. */
export function foldReferrerDigests(
  subject: Digest,
  referrers: readonly { readonly digest: Digest; readonly type: string }[],
  before: Facts,
  after: Facts,
): void {
  for (const { digest, type } of referrers) {
    foldPart(before, after, { digest, is: 'referrer', type }, subject);
  }
}

/** Folds in content that something else holds, or that refers to something. */
function foldPart(before: Facts, after: Facts, own: KnownDigest, holder: Digest): void {
  fold(before, after, own, (known) => {
    const { of = [] } = known;
    return of.includes(holder) ? known : { ...known, of: [...of, holder].slice(-holdersKept) };
  });
}

/** Changes what is known of a digest. Where nothing changes, the fact stays as it is. */
function fold(before: Facts, after: Facts, own: KnownDigest, change: (known: KnownDigest) => KnownDigest): void {
  const { kind, key } = digestFact(own.digest);
  const all = (after.isSet({ kind, key }) ? after : before).get('digest', key) ?? [];
  const at = all.findIndex(
    ({ digest, is, component }) => digest === own.digest && is === own.is && component === own.component,
  );
  const known = all[at] ?? own;
  const changed = change(known);
  if (changed !== known) {
    after.set('digest', key, at < 0 ? [...all, changed] : all.map((each, which) => (which === at ? changed : each)));
  }
}

/** The first, and the latest. */
function keptOf(releases: readonly ReleaseId[]): ReleaseId[] {
  return releases.length <= holdersKept ? [...releases] : [...releases.slice(0, 1), ...releases.slice(1 - holdersKept)];
}
