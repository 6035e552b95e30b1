import { formatMoment } from '../amounts';
import { admissionRulesIn, noAdmissionRules, rulesOf, type AdmissionRules, type ProductRules } from '../ledger/rules';
import type { Signer } from '../trust/signed-text';
import type { SignOff } from '../release/gates/sign-offs';
import { cameInto, stayIn } from '../ledger/environment';
import { tagKey, type Fact, type Facts, type Release, type ServedComponent } from '../ledger/facts';
import { attestedGates, evidenceGates, type Candidate, type Ruling } from '../release/gates/admission';
import type { Gate } from '../release/gates/gate';
import type { TrustNow } from '../release/gates/attested';
import { releaseOption } from '../release/gates/release-option';
import { shortDigest, type Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { TagDecision } from '../release/tag-decisions';
import { describePosition } from '../tags/ordering';
import type { Timestamp } from '../time';
import { isRecordType } from '../ledger/release-record';
import { trustsNobody } from '../trust/trust-rules';

/** What may be wrong with what an environment serves. */
export const findingKinds = [
  'content-gone',
  'content-changed',
  'fixed-tag-changed',
  'moving-tag-moved',
  'tag-gone',
  'withdrawn-tag-stands',
  'referrer-gone',
  'record-gone',
  'never-in-environment-before',
  'evidence-missing',
  'not-signed',
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
  /** The environments that releases pass through before, the nearest first; none in the first. */
  readonly before: readonly string[];
}

/** How to bring a release into its environment once more. */
function again({ release, environment, before }: Proven): string {
  return before.length === 0
    ? `check out and build ${release.commit.slice(0, 12)}, then \`hod publish --mend\``
    : `\`hod promote ${environment}${releaseOption(release)} --mend\``;
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
        remedy: `restore the storage of the registry, or remove this from it and send it again: ${again(proven)}`,
      }
    : { finding: 'content-gone', component, object, detail: why, remedy: `send it again: ${again(proven)}` };
}

/** Tells what is wrong with a tag that stands elsewhere than the ledger says. */
export function tagFinding(environment: string, decision: TagDecision): Finding {
  const { component, repository, tag, kind, digest, outcome, served } = decision;
  const about = { component, object: tagKey(repository, tag), remedy: `put it right: \`hod restore ${environment}\`` };
  if (outcome === 'removed') {
    const detail = `it still points to ${shortDigest(served ?? digest)}, which was rolled back`;
    return { ...about, finding: 'withdrawn-tag-stands', detail };
  }
  if (served === undefined) {
    return { ...about, finding: 'tag-gone', detail: `the ledger says ${shortDigest(digest)}, and the tag is gone` };
  }
  const detail = `it points to ${shortDigest(served)}, and the ledger says ${shortDigest(digest)}`;
  return { ...about, finding: kind === 'fixed' ? 'fixed-tag-changed' : 'moving-tag-moved', detail };
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
  const isRecord = isRecordType(type);
  return {
    finding: isRecord ? 'record-gone' : 'referrer-gone',
    component,
    object: `${repository}@${digest}`,
    detail: isRecord
      ? `the record of ${describePosition(proven.release)} does not refer to ${shortDigest(subject)}`
      : `${type} does not refer to ${shortDigest(subject)} any more`,
    remedy:
      isRecord || proven.before.length > 0
        ? `bring it again: ${again(proven)}`
        : 'push the referrer again, or build and publish with it',
  };
}

/** A component with the signed documents about it, and since when the ledger knows of them. */
export type KnownStatements = Parameters<typeof attestedGates>[1]['components'][number] & Pick<TrustNow, 'knownSince'>;

/** What is known of the evidence of a release. `facts`: those about rules too. */
interface EvidenceKnown {
  readonly facts: Facts;
  readonly evidence: Fact<'evidence'> | undefined;
  readonly now: Timestamp;
  readonly product: string;
  /** The rules of today. */
  readonly today: ProductRules;
  /** The signed documents about the component; undefined where no rules ask for any. */
  readonly statements: KnownStatements | undefined;
  /** Who made the signatures under sign-offs, by the people whom some rules trust. */
  readonly signerOf: (signOff: SignOff, rules: ProductRules | undefined) => Signer | undefined;
}

/** What rules say of a release: what they find missing, and what today's rules alone would. */
export interface RulesProof {
  readonly findings: readonly Finding[];
  readonly notes: readonly Note[];
}

/**
 * `required-today`: today's rules ask for it, and those in force when the release came did not. `adopted`, `parcel`: what cannot be
 * proved. `before-signing`: nobody signed then.
 */
export const noteKinds = ['required-today', 'adopted', 'parcel', 'before-signing'] as const;

/** Something that is told of a proof, and is no finding. */
export interface Note {
  readonly note: (typeof noteKinds)[number];
  readonly object: string;
  readonly detail: string;
}

/**
 * What of the evidence is missing that an environment asked for when a release came, and whether it came the right way. What
 * today's rules would ask for beside that is a note.
 */
export function proveByRules(proven: Proven, known: EvidenceKnown): RulesProof {
  const { release, environment, served, before } = proven;
  const today = admissionRulesIn(known.today, environment);
  const rulingBy = (rules: ProductRules | undefined): Ruling => {
    return { product: known.product, rules, signerOf: (each) => known.signerOf(each, rules) };
  };
  const stay = stayIn(release, environment, served.component);
  if (stay?.adopted === true) {
    return { findings: [], notes: [adoptedNote(proven, stay.since)] };
  }
  const then = stay?.rules === undefined ? undefined : known.facts.get('rules', stay.rules);
  const ruled = then && rulesOf(then, environment);
  if (ruled?.receives === 'parcels') {
    return { findings: [], notes: [parcelNote(proven)] };
  }
  const gates = ruled?.gates;
  const now = evidenceFindings(proven, before[0] ?? null, today, { ...known, ruling: rulingBy(known.today) });
  // The rules of then are not on record in a ledger that was made again; an environment between may be younger than the release.
  const isOnTheWay = typeof stay?.from === 'string' && before.includes(stay.from);
  if (stay === undefined || (gates === undefined && !isOnTheWay)) {
    return { findings: now, notes: [] };
  }
  const ruling = rulingBy(gates === undefined ? known.today : then);
  // What was asked when it came is asked as of then: an exception may have ended since.
  const findings = evidenceFindings(proven, stay.from, gates ?? today, { ...known, now: stay.since, ruling });
  const found = findings.map(({ finding, detail }) => `${finding} ${detail}`);
  const notes = now.filter(({ finding, detail }) => !found.includes(`${finding} ${detail}`));
  return { findings, notes: notes.map(({ object, detail }) => ({ note: 'required-today', object, detail })) };
}

/** Says what cannot be proved of a release that was served before the ledger began. */
function adoptedNote({ release, environment }: Proven, since: Timestamp): Note {
  return {
    note: 'adopted',
    object: `${describePosition(release)} in ${environment}`,
    detail: `adopted on ${formatMoment(since)}: content and tags are unchanged since; builder and earlier tests are not on record`,
  };
}

/** Says what cannot be proved of a release that came in a parcel. */
function parcelNote({ release, environment }: Proven): Note {
  return {
    note: 'parcel',
    object: `${describePosition(release)} in ${environment}`,
    detail: 'published from a parcel: only the parcel says who built the release and what was tested',
  };
}

/** Asks those rules of an environment again that are about the release, and not about the moment of its promotion. */
function lastingGates(
  rules: AdmissionRules,
  candidate: Candidate,
  { facts, evidence, statements }: Pick<EvidenceKnown, 'facts' | 'evidence' | 'statements'>,
): Gate[] {
  // Soak and freezes are about the moment of a promotion, and so is how old evidence may be.
  const resultRules = rules.resultRules?.map(({ name, atMost, except }) => ({ name, atMost, except }));
  const { results, signOffs, signOffsFrom, signOffsProven } = rules;
  const lasting = { ...noAdmissionRules, results, resultRules, signOffs, signOffsFrom, signOffsProven };
  const attested = rules.attested?.map((rule) => ({ ...rule, noOlderThan: undefined }));
  const trust = candidate.ruling.rules?.trust ?? trustsNobody;
  return [
    ...evidenceGates(lasting, candidate, facts, evidence),
    ...(statements === undefined
      ? []
      : attestedGates({ attested }, { ...candidate, ...statements, components: [statements], trust })),
  ];
}

function evidenceFindings(
  { release, environment, served }: Proven,
  from: string | null,
  rules: AdmissionRules,
  { facts, evidence, statements, now, ruling }: EvidenceKnown & { readonly ruling: Ruling },
): Finding[] {
  if (from === null) {
    return [];
  }
  const { component } = served;
  const object = `${describePosition(release)} in ${environment}`;
  const passed = cameInto(release, from, component);
  const candidate = { release, components: [], from, to: environment, now, despiteFreeze: false, ruling };
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
    ...lastingGates(rules, candidate, { facts, evidence, statements }).flatMap((gate) =>
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
