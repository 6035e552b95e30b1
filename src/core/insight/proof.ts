import { noAdmissionRules, type AdmissionRules } from '../release/gates/admission-rules';
import type { Fact, Facts, Release, ServedComponent } from '../ledger/facts';
import { admissionGates, releaseOption } from '../release/gates/admission';
import { shortDigest, type Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { Tag } from '../oci/tag';
import { describePosition } from '../tags/ordering';
import type { Timestamp } from '../time';
import { recordType } from '../ledger/release-record';

/** What may be wrong with what an environment serves. */
export const findingKinds = [
  'content-gone',
  'content-changed',
  'fixed-tag-changed',
  'moving-tag-moved',
  'tag-gone',
  'referrer-gone',
  'record-gone',
  'never-in-environment-before',
  'evidence-missing',
] as const;

/** Something that is not as it was published and tested. */
export interface Finding {
  readonly finding: (typeof findingKinds)[number];
  readonly component: string;
  /** What it is about: a tag, a digest, a release. */
  readonly object: string;
  readonly detail: string;
  readonly remedy: string;
}

/** A component that an environment serves, and the release that it is of. */
export interface Proven {
  readonly served: ServedComponent;
  readonly release: Release;
  readonly environment: string;
  /** The environment that it came from; undefined in the first. */
  readonly from: string | undefined;
}

/** How to bring a release into its environment once more. */
function again({ release, environment, from }: Proven, mend: boolean): string {
  const option = mend ? ' --mend' : '';
  return from === undefined
    ? `check out and build ${release.commit.slice(0, 12)}, then \`hod publish${option}\``
    : `\`hod promote ${environment}${releaseOption(release)}${option}\``;
}

/** What is missing or changed of the content of a component, or of its referrers. */
export function contentFinding(
  proven: Proven,
  lost: { readonly digest: Digest; readonly object: string; readonly changed: boolean; readonly why: string },
): Finding {
  const { component } = proven.served;
  const { object, changed, why } = lost;
  return changed
    ? {
        finding: 'content-changed',
        component,
        object,
        detail: why,
        remedy: `restore the storage of the registry, or remove this from it and send it again: ${again(proven, true)}`,
      }
    : { finding: 'content-gone', component, object, detail: why, remedy: `send it again: ${again(proven, true)}` };
}

/** A tag that the ledger knows, and what the registry serves under it. */
export interface KnownTag {
  readonly repository: RepositoryName;
  readonly tag: Tag;
  readonly fact: Fact<'tag'>;
  readonly served: Digest | undefined;
}

/** What is wrong with a tag; undefined where it leads to what the ledger says. */
export function tagFinding(proven: Proven, { repository, tag, fact, served }: KnownTag): Finding | undefined {
  // What is gone by decision may stand there still, where a registry removes no tags.
  if (served === fact.digest || fact.gone === true) {
    return undefined;
  }
  const { component } = proven.served;
  const object = `${repository}:${tag}`;
  if (served === undefined) {
    return {
      finding: 'tag-gone',
      component,
      object,
      detail: `it led to ${shortDigest(fact.digest)}, says the ledger, and is not there`,
      remedy: `write it again: ${again(proven, false)}`,
    };
  }
  const detail = `it leads to ${shortDigest(served)}, and to ${shortDigest(fact.digest)} by the ledger`;
  return fact.kind === 'fixed'
    ? {
        finding: 'fixed-tag-changed',
        component,
        object,
        detail,
        remedy: `find out who wrote it; Hod overwrites no fixed tag: remove it in the registry, then ${again(proven, false)}`,
      }
    : { finding: 'moving-tag-moved', component, object, detail, remedy: `put it right: ${again(proven, false)}` };
}

/** The finding that a referrer of a component is not there. */
export function referrerFinding(
  proven: Proven,
  about: {
    readonly repository: RepositoryName;
    readonly subject: Digest;
    readonly digest: Digest;
    readonly type: string;
  },
): Finding {
  const { component } = proven.served;
  const { repository, subject, digest, type } = about;
  const isRecord = type === recordType;
  return {
    finding: isRecord ? 'record-gone' : 'referrer-gone',
    component,
    object: `${repository}@${digest}`,
    detail: isRecord
      ? `the record of ${describePosition(proven.release)} does not refer to ${shortDigest(subject)}`
      : `${type} does not refer to ${shortDigest(subject)} any more`,
    remedy:
      isRecord || proven.from !== undefined
        ? `bring it again: ${again(proven, true)}`
        : 'push the referrer again, or build and publish with it',
  };
}

/** What of the evidence is missing that an environment asks for, and whether the release came the right way. */
export function evidenceFindings(
  proven: Proven,
  rules: AdmissionRules,
  { facts, evidence, now }: { facts: Facts; evidence: Fact<'evidence'> | undefined; now: Timestamp },
): Finding[] {
  const { release, environment, from, served } = proven;
  if (from === undefined) {
    return [];
  }
  const { component } = served;
  const object = `${describePosition(release)} in ${environment}`;
  const passed = release.arrived.some(
    (stay) => stay.environment === from && stay.component === component && stay.way !== 'held',
  );
  // Soak and freezes are about the moment of a promotion.
  const lasting = { ...noAdmissionRules, results: rules.results, signOffs: rules.signOffs };
  const candidate = { release, components: [], from, to: environment, now, despiteFreeze: false };
  return [
    ...(passed
      ? []
      : [
          {
            finding: 'never-in-environment-before' as const,
            component,
            object,
            detail: `${from} never served it, says the ledger`,
            remedy: `promote it to ${from}, test it there, and promote it again; or \`hod rollback ${environment}\``,
          },
        ]),
    ...admissionGates(lasting, candidate, facts, evidence).flatMap((gate) =>
      gate.outcome === 'met'
        ? []
        : [
            {
              finding: 'evidence-missing' as const,
              component: '',
              object,
              detail: [gate.detail].flat().join('; '),
              remedy: gate.remedy,
            },
          ],
    ),
  ];
}
