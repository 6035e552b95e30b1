import * as z from 'zod';
import type { TagDecision } from '../core/release/plan';

/**
 * What commands answer with `--json`: one document each, whose schema is in docs/schemas. Digests
 * are written in full, sizes are bytes, times are RFC 3339 UTC, platforms are `os/arch[/variant]`.
 */

const digest = z.string().regex(/^(sha256:[a-f0-9]{64}|sha512:[a-f0-9]{128})$/);

const tagResult = z.strictObject({
  tag: z.string(),
  kind: z.enum(['fixed', 'moving']),
  outcome: z.enum(['created', 'unchanged', 'moved', 'held', 'refused']),
  reason: z.string(),
});

const transferResult = z.strictObject({
  blobsSent: z.number().int(),
  blobsMounted: z.number().int(),
  blobsPresent: z.number().int(),
  bytesSent: z.number().int(),
  requests: z.number().int(),
});

const content = {
  image: z.string(),
  kind: z.enum(['image', 'bundle']),
  repository: z.string(),
  digest,
  mediaType: z.string(),
  platforms: z.array(z.string()),
};

const deliveredImage = {
  ...content,
  tags: z.array(tagResult),
  /** Rules that gave no tag, and the placeholder that nothing is known for. */
  omitted: z.array(z.strictObject({ rule: z.string(), lacks: z.string() })),
  transfer: transferResult,
};

const release = {
  product: z.string(),
  version: z.string().nullable(),
  commit: z.string(),
};

const delivery = {
  /** False where the environment goes on running something newer. */
  current: z.boolean(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
};

export const publishResultSchema = z.strictObject({
  ...release,
  /** Why it has this version, or none. */
  versioning: z.strictObject({ outcome: z.enum(['none', 'given', 'next', 'kept', 'held']), reason: z.string() }),
  branch: z.string().nullable(),
  build: z.string().nullable(),
  environment: z.string(),
  ...delivery,
  images: z.array(z.strictObject(deliveredImage)),
  /** Tags that protected what was staged, and that the registry does not remove. */
  leftovers: z.array(z.string()),
});

export const stageResultSchema = z.strictObject({
  product: z.string(),
  commit: z.string(),
  environment: z.string(),
  dryRun: z.boolean(),
  images: z.array(
    z.strictObject({
      ...content,
      outcome: z.enum(['staged', 'unchanged']),
      transfer: transferResult,
    }),
  ),
  /** What publishing this commit still waits for. */
  lacking: z.array(z.strictObject({ image: z.string(), lacks: z.array(z.string()) })),
});

export const touchedResultSchema = z.strictObject({
  product: z.string(),
  since: z.string(),
  commit: z.string(),
  images: z.array(
    z.strictObject({
      image: content.image,
      kind: content.kind,
      touched: z.boolean(),
      /** Changed files that it is made of; empty where nothing says what it is made of. */
      files: z.array(z.string()),
      reason: z.string(),
    }),
  ),
});

export const ledgerResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  /** How many entries it has, and the hash of the last. */
  entries: z.number().int(),
  head: digest.nullable(),
  facts: z.number().int(),
});

export const ledgerCopyResultSchema = z.strictObject({
  product: z.string(),
  file: z.string(),
  /** Entries written, and entries that were there already. */
  written: z.number().int(),
  present: z.number().int(),
});

export const promoteResultSchema = z.strictObject({
  ...release,
  from: z.string(),
  to: z.string(),
  ...delivery,
  gates: z.array(z.strictObject({ gate: z.string(), outcome: z.enum(['met', 'unmet']), detail: z.string() })),
  images: z.array(z.strictObject({ ...deliveredImage, sourceRepository: z.string() })),
});

export const assembleResultSchema = z.strictObject({
  repository: z.string(),
  digest,
  mediaType: z.string(),
  members: z.array(
    z.strictObject({ platform: z.string(), digest, size: z.number().int(), revision: z.string().nullable() }),
  ),
  tags: z.array(tagResult),
  transfer: transferResult,
  dryRun: z.boolean(),
});

export const statusResultSchema = z.strictObject({
  product: z.string(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      images: z.array(
        z.strictObject({
          image: z.string(),
          repository: z.string(),
          version: z.string().nullable(),
          commit: z.string(),
          digest,
          since: z.string(),
          by: z.string(),
          drift: z.strictObject({
            /** `unknown`: the registry could not be asked; `detail` says why. */
            state: z.enum(['none', 'drifted', 'unknown']),
            detail: z.string(),
          }),
        }),
      ),
    }),
  ),
});

export const showResultSchema = z.strictObject({
  reference: z.string(),
  repository: z.string().nullable(),
  digest,
  mediaType: z.string(),
  /** Of everything below it, each blob and manifest once. */
  size: z.number().int(),
  annotations: z.record(z.string(), z.string()),
  platforms: z.array(
    z.strictObject({
      platform: z.string(),
      digest,
      size: z.number().int(),
      layers: z.number().int(),
      revision: z.string().nullable(),
    }),
  ),
});

export const configCheckResultSchema = z.strictObject({
  file: z.string(),
  product: z.string(),
  images: z.array(z.string()),
  bundles: z.array(z.string()),
  environments: z.array(z.string()),
});

const right = z.strictObject({
  /** `unknown`: the registry could not be asked. */
  allowed: z.enum(['yes', 'no', 'unknown']),
  reason: z
    .enum([
      'host-unknown',
      'not-listening',
      'tls-untrusted',
      'proxy',
      'not-a-registry',
      'login-needed',
      'login-refused',
      'no-right',
      'no-repository',
    ])
    .nullable(),
  why: z.string().nullable(),
  next: z.string().nullable(),
});

export const accessResultSchema = z.strictObject({
  product: z.string(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      /** What the job needs there; null: nothing. */
      needs: z.enum(['read', 'write']).nullable(),
      repositories: z.array(
        z.strictObject({
          image: z.string(),
          repository: z.string(),
          read: right,
          write: right,
          /** From the environment before; null where they do not share a registry. */
          mount: right.nullable(),
        }),
      ),
    }),
  ),
  /** Rights that go further than is needed. */
  warnings: z.array(z.string()),
});

export const storedLoginsResultSchema = z.strictObject({
  file: z.string(),
  logins: z.array(z.strictObject({ registry: z.string(), username: z.string() })),
});

/** What every command answers with `--json` when it fails. */
export const errorResultSchema = z.strictObject({
  error: z.strictObject({
    fault: z.enum(['defect', 'usage', 'refused', 'missing', 'denied', 'unavailable', 'corrupt', 'interrupted']),
    exitCode: z.number().int(),
    what: z.string(),
    object: z.string().nullable(),
    why: z.string().nullable(),
    next: z.string().nullable(),
  }),
});

/** The schema of each document, by the name of its file in docs/schemas. */
export const resultSchemas = {
  stage: stageResultSchema,
  publish: publishResultSchema,
  touched: touchedResultSchema,
  'ledger-verify': ledgerResultSchema,
  'ledger-copy': ledgerCopyResultSchema,
  promote: promoteResultSchema,
  assemble: assembleResultSchema,
  status: statusResultSchema,
  show: showResultSchema,
  'config-check': configCheckResultSchema,
  'access-check': accessResultSchema,
  'stored-logins': storedLoginsResultSchema,
  error: errorResultSchema,
} as const;

export type TagResult = z.infer<typeof tagResult>;
export type TransferResult = z.infer<typeof transferResult>;
export type StageResult = z.infer<typeof stageResultSchema>;
export type TouchedResult = z.infer<typeof touchedResultSchema>;
export type LedgerResult = z.infer<typeof ledgerResultSchema>;
export type LedgerCopyResult = z.infer<typeof ledgerCopyResultSchema>;
export type PublishResult = z.infer<typeof publishResultSchema>;
export type PromoteResult = z.infer<typeof promoteResultSchema>;
export type AssembleResult = z.infer<typeof assembleResultSchema>;
export type StatusResult = z.infer<typeof statusResultSchema>;
export type ShowResult = z.infer<typeof showResultSchema>;
export type ConfigCheckResult = z.infer<typeof configCheckResultSchema>;
export type AccessResult = z.infer<typeof accessResultSchema>;
export type StoredLoginsResult = z.infer<typeof storedLoginsResultSchema>;
export type ErrorResult = z.infer<typeof errorResultSchema>;

/** The part of a decision about a tag that is answered. */
export function toTagResult({ tag, kind, outcome, reason }: TagDecision): TagResult {
  return { tag, kind, outcome, reason };
}
