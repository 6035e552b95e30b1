import * as z from 'zod';
import type { Included } from '../core/ledger/release';
import { contentKinds, type ContentKind } from '../core/oci/bundle';
import { gateOutcomes, type Gate } from '../core/release/gates/gate';
import { tagOutcomes, type TagDecision } from '../core/release/tag-decisions';
import { tagKinds } from '../core/tags/rules';
import { joinLines } from '../core/text';

/**
 * What the documents of `--json` have in common. Each command has a file of its own here: the schema
 * of its document, and how what the engine answers becomes one. Digests are written in full, sizes
 * are bytes, times are RFC 3339 UTC, platforms are `os/arch[/variant]`.
 */

export const digest = z.string().regex(/^(sha256:[a-f0-9]{64}|sha512:[a-f0-9]{128})$/);

export const tagResult = z.strictObject({
  tag: z.string(),
  kind: z.enum(tagKinds),
  /** Of a tag that leads to one image of an index: its platform. */
  platform: z.string().nullable(),
  outcome: z.enum(tagOutcomes),
  reason: z.string(),
  /** Where the registry served something else under it than the ledger says, or nothing (null). */
  drift: z.strictObject({ recorded: digest, served: digest.nullable() }).nullable(),
});
export type TagResult = z.infer<typeof tagResult>;

export const transferResult = z.strictObject({
  blobsSent: z.number().int(),
  blobsMounted: z.number().int(),
  blobsPresent: z.number().int(),
  bytesSent: z.number().int(),
  requests: z.number().int(),
});
export type TransferResult = z.infer<typeof transferResult>;

export const gateResult = z.strictObject({
  gate: z.string(),
  outcome: z.enum(gateOutcomes),
  detail: z.string(),
  /** What would meet it, where it is not met. */
  remedy: z.string().nullable(),
});
export type GateResult = z.infer<typeof gateResult>;

/** What a component is, and where. */
export const contentFields = {
  component: z.string(),
  kind: z.enum(contentKinds),
  /** What kind of artifact or bundle it is; null of an image. */
  artifactType: z.string().nullable(),
  repository: z.string(),
  digest,
  mediaType: z.string(),
  platforms: z.array(z.string()),
};
export type ContentResult = z.infer<z.ZodObject<typeof contentFields>>;

/** Where an included component came from: the repository that it was copied from, its tag there, and its release of its own product. */
export const includedResult = z
  .strictObject({
    repository: z.string(),
    tag: z.string().nullable(),
    product: z.string().nullable(),
    version: z.string().nullable(),
    commit: z.string().nullable(),
  })
  .nullable();
export type IncludedResult = z.infer<typeof includedResult>;

/** The origin of a component; null of one that is built here. */
export function toIncludedResult(included: Included | undefined): IncludedResult {
  if (included === undefined) {
    return null;
  }
  const { repository, tag = null, product = null, version = null, commit = null } = included;
  return { repository, tag, product, version, commit };
}

/** A command to run now, and what it does. */
export const nextStep = z.strictObject({ command: z.string(), does: z.string() });
export type NextStep = z.infer<typeof nextStep>;

/** What a release is. */
export const releaseFields = {
  product: z.string(),
  version: z.string().nullable(),
  commit: z.string(),
};

/** The part of a decision about a tag that is answered. */
export function toTagResult({
  tag,
  kind,
  platform,
  outcome,
  reason,
  recorded,
  served,
  unwritten,
}: TagDecision): TagResult {
  const drift = recorded === undefined || unwritten === true ? null : { recorded, served: served ?? null };
  return { tag, kind, platform: platform ?? null, outcome, reason, drift };
}

/** The part of a gate that is answered. */
export function toGateResult(gate: Gate): GateResult {
  const { gate: name, outcome, detail } = gate;
  return { gate: name, outcome, detail: joinLines(detail), remedy: gate.outcome === 'unmet' ? gate.remedy : null };
}

/** A component in a repository, as far as answers tell of it. */
interface Placed extends Omit<ContentResult, 'artifactType' | 'kind'> {
  readonly kind: ContentKind;
  readonly artifactType: string | undefined;
}

/** What a component is, and where, of something that holds more. */
export function toContentResult(item: Placed): ContentResult {
  const { component, kind, artifactType = null, repository, digest: found, mediaType, platforms } = item;
  return { component, kind, artifactType, repository, digest: found, mediaType, platforms: [...platforms] };
}
