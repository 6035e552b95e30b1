import * as z from 'zod';
import { findingKinds, noteKinds } from '../core/insight/proof';
import type { Proof } from '../inspect/prove';
import { digest } from './common';

const provedFields = {
  component: z.string(),
  digest,
  version: z.string().nullable(),
  commit: z.string(),
  /** The environment served it before the ledger began. */
  adopted: z.boolean(),
};

export const proveResultSchema = z.strictObject({
  product: z.string(),
  /** Whether every byte was read and hashed; else it was asked whether it is there. */
  deep: z.boolean(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      components: z.array(z.strictObject(provedFields)),
      /** What it serves on lines of versions and followed branches, beside that; proved like what it serves. */
      lines: z.array(z.strictObject({ line: z.string(), ...provedFields })),
      /** How much was looked at; `bytes`: those that were read of blobs. */
      looked: z.strictObject({
        manifests: z.number().int(),
        blobs: z.number().int(),
        bytes: z.number().int(),
        tags: z.number().int(),
        referrers: z.number().int(),
      }),
      /** Where hod.yaml trusts anybody: who signed each document that refers to what is served. */
      statements: z.array(
        z.strictObject({
          component: z.string(),
          referrer: digest,
          /** Null where it is no statement of in-toto. */
          predicateType: z.string().nullable(),
          /** The name under `trust:`; null where nobody signed it who is trusted. */
          by: z.string().nullable(),
          /** The key, or why nobody's signature counts. */
          detail: z.string(),
        }),
      ),
      /** Where hod.yaml signs: who signed each entry by which a release came so far. */
      signed: z.array(
        z.strictObject({
          /** The version or commit of the release. */
          object: z.string(),
          /** The environment that it came into. */
          environment: z.string(),
          entry: z.number().int(),
          actor: z.string(),
          /** The name under `trust:`, and the key. */
          by: z.string(),
          key: z.string(),
        }),
      ),
      /** What is not as it was published and tested; empty where it is proved. */
      findings: z.array(
        z.strictObject({
          finding: z.enum(findingKinds),
          /** Empty where it is about a release as a whole. */
          component: z.string(),
          object: z.string(),
          detail: z.string(),
          remedy: z.string(),
        }),
      ),
      /**
       * What is told, and is no finding. `required-today`: today's rules ask for it, and those in force when the release came did
       * not. `adopted`: the environment served it before the ledger began, and this cannot be proved. `before-signing`: it is older
       * than the first signed entry of the ledger.
       */
      notes: z.array(z.strictObject({ note: z.enum(noteKinds), object: z.string(), detail: z.string() })),
    }),
  ),
});
export type ProveResult = z.infer<typeof proveResultSchema>;

/** Proofs as a document. What two environments share is told once. */
export function toProveResult(product: string, proofs: readonly Proof[], { deep }: { deep: boolean }): ProveResult {
  const told = new Set<string>();
  const isNew = ({ finding, object }: Proof['findings'][number]): boolean => {
    const before = told.size;
    return told.add(`${finding} ${object}`).size > before;
  };
  return {
    product,
    deep,
    environments: proofs.map(({ environment, components, lines, looked, statements, signed, findings, notes }) => ({
      environment,
      components: components.map(toProved),
      lines: lines.map(({ line, head }) => ({ line, ...toProved(head) })),
      looked: { ...looked },
      statements: statements.map(({ by, predicateType, ...each }) => ({
        ...each,
        by: by ?? null,
        predicateType: predicateType ?? null,
      })),
      signed: signed.map((each) => ({ ...each })),
      findings: findings.filter(isNew),
      notes: notes.map((each) => ({ ...each })),
    })),
  };
}

function toProved({ component, digest: served, version, commit, adopted }: Proof['components'][number]) {
  return { component, digest: served, version: version ?? null, commit, adopted: adopted === true };
}
