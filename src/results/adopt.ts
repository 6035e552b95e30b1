import * as z from 'zod';
import type { AdoptedContent, AdoptionVerdict, LeftTag } from '../core/release/adoption';
import { tagKinds } from '../core/tags/rules';
import { laneName } from '../core/ledger/lane';
import { originTellers, type Identified, type IdentifiedContent } from '../delivery/adoption/identify';
import type { ShownContents } from '../delivery/adoption/find';
import { digest, nextStep } from './common';

const teller = z.enum(originTellers);

export const adoptResultSchema = z.strictObject({
  product: z.string(),
  /** True where nothing was recorded: the document says what would have been. */
  dryRun: z.boolean(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      /** What its moving tags lead to. */
      components: z.array(
        z.strictObject({
          component: z.string(),
          repository: z.string(),
          digest,
          mediaType: z.string(),
          platforms: z.array(z.string()),
          version: z.string().nullable(),
          commit: z.string(),
          /** Who told version and commit; null where there is no version. */
          told: z.strictObject({ version: teller.nullable(), commit: teller }),
          /** `takes-over`: the environment serves it; `beside`: it is the newest of a line or branch; `left`: it is neither, and is not recorded. */
          way: z.enum(['takes-over', 'beside', 'left']),
          /** The lines and branches that it is the newest of. */
          lines: z.array(z.string()),
          /** The tags of the environment that lead to it. */
          tags: z.array(z.strictObject({ tag: z.string(), kind: z.enum(tagKinds) })),
          /** Whether the ledger said so before. */
          known: z.boolean(),
          /** The commit that the content names itself, where its release is of another one. */
          claimed: z.string().nullable(),
        }),
      ),
      /** Components of which no tag shows what is served. */
      absent: z.array(z.strictObject({ component: z.string(), why: z.string() })),
    }),
  ),
  /** Moving tags that were not recorded, and why. */
  left: z.array(z.strictObject({ repository: z.string(), tag: z.string(), why: z.string() })),
  /** Versions that are another digest in another environment. */
  contradictions: z.array(
    z.strictObject({
      component: z.string(),
      version: z.string(),
      places: z.array(z.strictObject({ repository: z.string(), digest })),
    }),
  ),
  requests: z.number().int(),
  /** What to run now, in this order. */
  next: z.array(nextStep),
});
export type AdoptResult = z.infer<typeof adoptResultSchema>;

/** What was adopted, as a document. */
export function toAdoptResult(
  about: Pick<AdoptResult, 'product' | 'dryRun' | 'requests'>,
  {
    found,
    verdict,
    absent,
    left,
  }: { found: Identified; verdict: AdoptionVerdict; absent: ShownContents['absent']; left: readonly LeftTag[] },
): Omit<AdoptResult, 'next'> {
  return {
    ...about,
    environments: found.environments.map(({ environment, contents }) => ({
      environment,
      components: contents.map((content) => {
        const adopted = verdict.contents.find((each) => each.content.placed === content.placed);
        return toAdopted(content, adopted);
      }),
      absent: absent
        .filter((each) => each.environment === environment)
        .map(({ component, why }) => ({ component, why })),
    })),
    left: left.map((each) => ({ ...each })),
    contradictions: verdict.contradictions.map(({ places, ...each }) => ({ ...each, places: [...places] })),
  };
}

function toAdopted(
  { placed, version, commit, told, tags, claimed }: IdentifiedContent,
  adopted: AdoptedContent | undefined,
): AdoptResult['environments'][number]['components'][number] {
  const { component, repository, digest: found, mediaType, platforms } = placed;
  return {
    ...{ component, repository, digest: found, mediaType, platforms, version: version ?? null, commit },
    told: { version: told.version ?? null, commit: told.commit },
    way: adopted?.way ?? 'left',
    lines: (adopted?.lanes ?? []).map(laneName),
    tags: tags.map(({ tag, kind }) => ({ tag, kind })),
    known: adopted?.isKnown ?? false,
    claimed: claimed ?? null,
  };
}
