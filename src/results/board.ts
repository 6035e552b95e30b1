import * as z from 'zod';
import type { Figures, ReleaseLife, Spread } from '../core/insight/figures';
import { digitsOf, type Digest } from '../core/oci/digest';
import { ways } from '../core/ledger/way';
import { digest } from './common';
import { statusResultSchema } from './status';
import { timelineResultSchema } from './timeline';

/** How values lie, in milliseconds: a quarter of them lie below `lower`, half below `median`, three quarters below `upper`. */
const spread = z
  .strictObject({ count: z.number().int(), lower: z.number(), median: z.number(), upper: z.number() })
  .nullable();

/** How a component is pulled from an environment: by its digest. */
const pull = z.strictObject({ environment: z.string(), component: z.string(), reference: z.string() });
export type BoardPull = z.infer<typeof pull>;

/** What is on the page. */
const boardFields = {
  product: z.string(),
  written: z.string(),
  /** The record that this was read from, and how many entries it has. */
  ledger: z.strictObject({ place: z.string(), entries: z.number().int() }),
  /** Whether registries were asked: for drift, and for the sizes of components. */
  asked: z.boolean(),
  environments: statusResultSchema.shape.environments,
  expiring: statusResultSchema.shape.expiring,
  announcements: statusResultSchema.shape.announcements,
  /** How much repositories hold by the ledger, and why; registries are not asked for bytes. */
  growth: statusResultSchema.shape.growth.unwrap(),
  /** The oldest first. */
  releases: z.array(
    z.strictObject({
      version: z.string().nullable(),
      commit: z.string(),
      branch: z.string().nullable(),
      /** When the commit was made; null where git does not know it. */
      committed: z.string().nullable(),
      /** How it came into environments for the first time. */
      arrivals: z.array(
        z.strictObject({ environment: z.string(), at: z.string(), way: z.enum(ways), adopted: z.boolean() }),
      ),
      withdrawn: z.array(z.strictObject({ environment: z.string(), at: z.string(), reason: z.string() })),
      /** The first twelve digits of the digest of each component, of its images and of their configs: what is searched for. */
      digests: z.array(z.string()),
      /** What is in it, and how that is pulled from each environment that it came into. Null for older releases. */
      contents: z
        .strictObject({
          components: z.array(
            z.strictObject({
              component: z.string(),
              digest,
              images: z.array(z.strictObject({ platform: z.string(), digest })),
            }),
          ),
          pulls: z.array(pull),
        })
        .nullable(),
    }),
  ),
  figures: z.strictObject({
    environments: z.array(
      z.strictObject({
        environment: z.string(),
        /** How many releases came in, and how many of them were rolled back. */
        releases: z.number().int(),
        withdrawn: z.number().int(),
        /** Publications or promotions by week, each by its Monday (UTC); weeks without any are left out. */
        weeks: z.array(z.strictObject({ week: z.string(), count: z.number().int() })),
        /** From the commit, and from the publication, until a release came in. */
        sinceCommit: spread,
        sincePublished: spread,
      }),
    ),
    /** From the first staging of a build until it was published. */
    publishing: spread,
  }),
  /** Bytes of a component as it is shipped, for the platform for which it is largest; the oldest first. */
  sizes: z.array(
    z.strictObject({
      component: z.string(),
      points: z.array(z.strictObject({ version: z.string(), bytes: z.number().int() })),
    }),
  ),
  /** The newest first; `more`: there are older ones, which `hod timeline --all` has. */
  events: timelineResultSchema.shape.events,
  more: z.boolean(),
};

/** What the page is made of. */
export const boardDataSchema = z.strictObject(boardFields);
export type BoardData = z.infer<typeof boardDataSchema>;

/** What the page of several products is made of. */
const boardsFields = {
  written: z.string(),
  products: z.array(boardDataSchema),
  /** Products that could not be read, and why. */
  unread: z.array(z.strictObject({ config: z.string(), what: z.string(), why: z.string() })),
};

export const boardsResultSchema = z.strictObject({
  /** The page that was written. */
  file: z.string(),
  bytes: z.number().int(),
  ...boardsFields,
});
export type BoardsResult = z.infer<typeof boardsResultSchema>;
export type BoardsData = Omit<BoardsResult, 'file' | 'bytes'>;

export const boardResultSchema = z.strictObject({
  /** The page that was written. */
  file: z.string(),
  bytes: z.number().int(),
  ...boardFields,
});
export type BoardResult = z.infer<typeof boardResultSchema>;

/** Figures as a document tells them. */
export function toFigures({ environments, publishing }: Figures): BoardData['figures'] {
  const told = (each: Spread | undefined): z.infer<typeof spread> => (each === undefined ? null : { ...each });
  return {
    environments: environments.map(({ weeks, sinceCommit, sincePublished, ...counts }) => ({
      ...counts,
      weeks: weeks.map((week) => ({ ...week })),
      sinceCommit: told(sinceCommit),
      sincePublished: told(sincePublished),
    })),
    publishing: told(publishing),
  };
}

/** A release as a document tells it. */
export function toBoardRelease(
  { version, commit, branch, components, images, arrivals, withdrawn }: ReleaseLife,
  { committed, pulls }: { readonly committed: string | undefined; readonly pulls: readonly BoardPull[] | undefined },
): BoardData['releases'][number] {
  const imagesOf = (name: string) =>
    images.filter(({ component }) => component === name).map(({ platform, digest: of }) => ({ platform, digest: of }));
  return {
    version: version ?? null,
    commit,
    branch: branch ?? null,
    committed: committed ?? null,
    arrivals: arrivals.map((each) => ({ ...each })),
    withdrawn: withdrawn.map((each) => ({ ...each })),
    digests: [
      ...new Set(
        [...components, ...images].map(({ digest: of }) => of).concat(images.flatMap(({ config }) => config ?? [])),
      ),
    ].map(firstDigits),
    contents:
      pulls === undefined
        ? null
        : {
            components: components.map(({ component, digest: of }) => ({
              component,
              digest: of,
              images: imagesOf(component),
            })),
            pulls: [...pulls],
          },
  };
}

function firstDigits(of: Digest): string {
  return digitsOf(of).slice(0, 12);
}
