import * as z from 'zod';
import { readJson } from '../json';
import { isTag, type Tag } from './tag';
import { emptyConfig } from './bundle';
import type { Descriptor } from './descriptor';
import type { Digest } from './digest';
import { describeManifest, parseManifest, type Manifest } from './manifest';
import { isImageConfig, mediaTypes } from './media-types';

/** A referrer as it is listed: it names a manifest as its subject, or stands under a tag that is made of its digest. */
export interface ListedReferrer {
  readonly descriptor: Descriptor;
  /** The tag that it stands under beside the manifest; undefined where it names its subject. */
  readonly tag?: Tag | undefined;
}

// OCI distribution specification, "Referrers Tag Schema": so many characters of each part are kept.
const [algorithmKept, digitsKept] = [32, 64];

/** The tag that lists what refers to a manifest where a registry has no list of its own (OCI distribution specification, "Referrers Tag Schema"). */
export function referrersTag(digest: Digest): Tag {
  const [algorithm = '', digits = ''] = digest.split(':');
  const tag = `${algorithm.slice(0, algorithmKept)}-${digits.slice(0, digitsKept)}`;
  if (!isTag(tag)) {
    throw new Error(`${tag} is not a tag`);
  }
  return tag;
}

const digestTag = /^(sha256-[0-9a-f]{64}|sha512-[0-9a-f]{64})([-._].+)?$/;

/** What a tag that is made of a digest stands for: its list of referrers, or something beside the manifest; undefined for any other. */
export function readDigestTag(tag: string): { readonly stem: string; readonly isList: boolean } | undefined {
  const [, stem, rest] = digestTag.exec(tag) ?? [];
  return stem === undefined ? undefined : { stem, isList: rest === undefined };
}

/** What kind of thing a manifest is: its artifact type, else what it was made as. */
export function typeOf(manifest: Manifest): string {
  if (manifest.artifactType !== undefined || manifest.kind === 'index') {
    return manifest.artifactType ?? manifest.mediaType;
  }
  const { config, layers } = manifest;
  // A config that says nothing of it, or that only pretends to be one of an image: what it holds says more.
  const says = config.mediaType !== emptyConfig.mediaType && !isImageConfig(config.mediaType);
  return says ? config.mediaType : (layers[0]?.mediaType ?? config.mediaType);
}

/** A manifest as a list of referrers names it (OCI distribution specification, "Listing Referrers"). */
export function describeReferrer(manifest: Manifest): Descriptor {
  const { artifactType, annotations } = manifest;
  const type = artifactType ?? (manifest.kind === 'image' ? manifest.config.mediaType : undefined);
  return {
    ...describeManifest(manifest),
    ...(type === undefined ? {} : { artifactType: type }),
    ...(annotations.size === 0 ? {} : { annotations }),
  };
}

const listSchema = z.looseObject({ manifests: z.array(z.looseObject({ digest: z.unknown() })) });

/**
 * A list of referrers with others added, and without those that are gone. What somebody else wrote into it stays as it is.
 *
 * @param list The list as it stands; undefined where there is none.
 */
export function withReferrers(
  list: Manifest | undefined,
  added: readonly Descriptor[],
  gone: ReadonlySet<Digest> = new Set(),
): Manifest {
  const before = listSchema.safeParse(list === undefined ? undefined : readJson(list.bytes).object).data;
  const kept = (before?.manifests ?? []).filter(({ digest }) => ![...gone].some((each) => each === digest));
  const known = new Set(kept.map(({ digest }) => digest));
  const coming = added
    .filter(({ digest }) => !known.has(digest))
    .map(({ annotations, ...descriptor }) => ({
      ...descriptor,
      ...(annotations === undefined ? {} : { annotations: Object.fromEntries(annotations) }),
    }));
  const document = {
    schemaVersion: 2,
    mediaType: mediaTypes.index,
    ...before,
    manifests: [...kept, ...coming],
  };
  const bytes = new TextEncoder().encode(JSON.stringify(document));
  return parseManifest(bytes, { label: 'a list of referrers', mediaType: list?.mediaType ?? mediaTypes.index });
}

/** Whether one manifest holds all that another holds, and may so stand in its place. */
export function holdsAllOf(manifest: Manifest, other: Manifest): boolean {
  const partsOf = (each: Manifest): Digest[] =>
    (each.kind === 'index' ? each.manifests : each.layers).map(({ digest }) => digest);
  const parts = new Set(partsOf(manifest));
  return partsOf(other).every((digest) => parts.has(digest));
}

/** Which referrers are carried into an environment: all, none, or those of these types. */
export type Carrying = 'all' | 'none' | readonly string[];

/** Whether a referrer of this type is carried. */
export function isCarried(type: string, carrying: Carrying): boolean {
  return carrying === 'all' || (carrying !== 'none' && carrying.includes(type));
}
