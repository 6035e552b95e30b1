import { describeDuration, formatFuture, formatMoment, formatPast, formatSpan } from '../../amounts';
import { describePosition } from '../../tags/ordering';
import { timestampOf, type Timestamp } from '../../time';
import { laneHeadsIn, lanesOf, servedIn } from '../../ledger/environment';
import type { AdmissionRules, AttestationRule, ProductRules } from '../../ledger/rules';
import type { Fact, Facts, Release } from '../../ledger/facts';
import { frozenUntil } from './freeze';
import { describeWindow } from './freeze-window';
import type { ComponentDigest } from '../../ledger/release';
import type { ContentKind } from '../../oci/bundle';
import { findStatements, type AttestedComponent, type SignedDocument, type TrustNow } from './attested';
import type { Gate } from './gate';
import { unmetGate, type RefusedRelease } from './refused-release';
import type { Passage } from './passage';
import { environmentRulesDigest, enoughSignOffs, type SignOff, type SignOffsKnown } from './sign-offs';
import { releaseOption } from './release-option';
import { resultPassed } from './results';
import { commitIsSigned, type CommitSigner } from './signed-commit';
import type { PlatformImage } from '../../oci/content';
import type { Signer } from '../../trust/signed-text';

/** A component that asks to enter, as far as rules ask about it. */
export interface CandidateComponent extends ComponentDigest {
  readonly kind: ContentKind;
  /** `os/arch[/variant]` of everything that runs. */
  readonly platforms: readonly string[];
  /** The names of the annotations that it has, or that all have that it holds. */
  readonly annotations: readonly string[];
  /** The types of its referrers, or of those that everything in it has. */
  readonly referrers: readonly string[];
  /** The image for each platform. */
  readonly images: readonly PlatformImage[];
  /** The signed documents that refer to it, or to an image in it. */
  readonly documents: readonly SignedDocument[];
}

/** A release that asks to enter an environment: `I` is what is known of its components. */
export interface Candidate<I extends ComponentDigest = ComponentDigest> extends Passage {
  readonly release: Release;
  readonly components: readonly I[];
  readonly now: Timestamp;
  /** Somebody said that it enters although nothing should. */
  readonly despiteFreeze: boolean;
  readonly ruling: Ruling;
}

/** What is known of the rules of a product, beside those of the environment, and of signatures under evidence. */
export interface Ruling {
  readonly product: string;
  /** Undefined where nobody knows them. */
  readonly rules: ProductRules | undefined;
  readonly signerOf: (signOff: SignOff) => Signer | undefined;
}

/** Nothing is known. */
export const noRuling: Ruling = { product: '', rules: undefined, signerOf: () => undefined };

/** What rules about content know of a release that asks to enter, beside the ledger. */
export interface KnownContent extends Pick<TrustNow, 'trust' | 'knownSince'> {
  readonly commitSigner: CommitSigner | undefined;
}

/** Asks every rule of an environment about a release. */
export function admissionGates(
  rules: AdmissionRules,
  candidate: Candidate<CandidateComponent> & KnownContent,
  facts: Facts,
  evidence: Fact<'evidence'> | undefined,
): Gate[] {
  return [
    ...evidenceGates(rules, candidate, facts, evidence),
    ...(rules.platforms.length > 0 ? [hasPlatforms(rules.platforms, candidate)] : []),
    ...(rules.annotations.length > 0 ? [hasAnnotations(rules.annotations, candidate)] : []),
    ...(rules.referrers.length > 0 ? [hasReferrers(rules.referrers, candidate)] : []),
    ...attestedGates(rules, candidate),
    ...(rules.signedCommit === true ? [commitIsSigned(candidate.commitSigner, candidate)] : []),
  ];
}

/** Asks the rules that ledger and clock alone decide about; the others need the content. */
export function evidenceGates(
  rules: AdmissionRules,
  candidate: Candidate,
  facts: Facts,
  evidence: Fact<'evidence'> | undefined,
): Gate[] {
  return [
    ...rules.results.map((name) => {
      const rule = rules.resultRules?.find((each) => each.name === name) ?? { name };
      return resultPassed(rule, candidate, evidence);
    }),
    ...(rules.signOffs > 0 ? [enoughSignOffs(candidate, { ...signOffsKnown(rules, candidate), evidence })] : []),
    ...(rules.soak > 0 ? [soaked(rules.soak, candidate, facts)] : []),
    ...(rules.freeze.length > 0 ? [notFrozen(rules, candidate)] : []),
  ];
}

function signOffsKnown(rules: AdmissionRules, { to, ruling }: Candidate): Omit<SignOffsKnown, 'evidence'> {
  const { signerOf, rules: all } = ruling;
  return {
    rules,
    groups: all?.groups,
    issuers: all?.trust?.issuers,
    digest: all && environmentRulesDigest(to, all),
    signerOf,
  };
}

/**
 * The environment before has served all of it, without interruption, for so long; or has had it as the newest of its line of
 * versions or its branch. Reads the lanes of the release there.
 */
function soaked(soak: number, candidate: Candidate, facts: Facts): Gate {
  const { from, to, release, components, now } = candidate;
  const at = new Date(now);
  const gate = 'soak';
  const there = [...servedIn(facts, from), ...lanesOf(release).flatMap((lane) => laneHeadsIn(facts, from, lane))];
  const served = components.flatMap(({ component, digest }) => {
    const [longest] = there
      .filter((each) => each.component === component && each.digest === digest)
      .sort((a, b) => a.since.localeCompare(b.since));
    return longest ?? [];
  });
  const wanted = describeDuration(soak);
  if (served.length < components.length) {
    return unmetGate(gate, candidate, {
      code: 'not-soaked',
      what: 'the soak time is not over',
      detail: `${from} does not serve ${describePosition(release)} now; ${to} requires ${wanted} there`,
      remedy: `let ${from} serve the release for ${wanted}: \`hod promote ${from}${releaseOption(release)}\`, or promote what ${from} serves`,
    });
  }
  const since = Math.max(...served.map((each) => Date.parse(each.since)));
  const [start, until] = [timestampOf(new Date(since)), timestampOf(new Date(since + soak))];
  if (Date.parse(now) >= since + soak) {
    return {
      gate,
      outcome: 'met',
      detail: `${from} has served ${describePosition(release)} since ${formatPast(start, at)}; ${to} requires ${wanted}`,
    };
  }
  return unmetGate(gate, candidate, {
    code: 'not-soaked',
    what: 'the soak time is not over',
    detail: `${from} has served ${describePosition(release)} for ${formatSpan(at.getTime() - since)}; ${to} requires ${wanted}; opens ${formatFuture(until, at)}`,
    remedy: `promote the release after ${formatMoment(until)}`,
  });
}

/** Nothing comes in while an environment is frozen. */
export function notFrozen(
  { freeze }: Pick<AdmissionRules, 'freeze'>,
  candidate: Pick<Candidate, 'to' | 'now' | 'despiteFreeze'> & RefusedRelease,
): Gate {
  const { to, now, despiteFreeze } = candidate;
  const gate = 'freeze';
  const latest = frozenNow({ freeze }, now);
  if (latest === undefined) {
    return { gate, outcome: 'met', detail: `${to} is not frozen now` };
  }
  if (despiteFreeze) {
    return { gate, outcome: 'met', detail: `frozen (${latest.text}), and promoted on purpose` };
  }
  return unmetGate(gate, candidate, {
    code: 'frozen',
    what: 'the environment is frozen',
    detail: `${to} is frozen (${latest.text}); opens ${formatFuture(latest.until, new Date(now))}`,
    remedy: `run the command again after ${formatMoment(latest.until)}; in an emergency, add --despite-freeze --reason "…"; the ledger records the reason`,
  });
}

/** Returns the freeze that ends last of those that a moment is in; undefined where it is in none. */
export function frozenNow(
  { freeze }: Pick<AdmissionRules, 'freeze'>,
  now: Timestamp,
): { readonly text: string; readonly until: Timestamp } | undefined {
  const frozen = freeze.flatMap((window) => {
    const until = frozenUntil(window, now);
    return until === undefined ? [] : [{ text: describeWindow(window), until }];
  });
  return frozen.sort((a, b) => b.until.localeCompare(a.until))[0];
}

/** The components that gates about content ask. A bundle is Hod's own work, and is not asked. */
function contentOf<C extends { readonly kind: ContentKind }>({
  components,
}: {
  readonly components: readonly C[];
}): readonly C[] {
  return components.filter(({ kind }) => kind !== 'bundle');
}

function hasPlatforms(platforms: readonly string[], candidate: Candidate<CandidateComponent>): Gate {
  const gate = 'platforms';
  const lacking = contentOf(candidate)
    // An artifact runs nowhere by itself.
    .filter(({ kind }) => kind === 'image')
    .flatMap((each) => {
      const missing = platforms.filter((platform) => !each.platforms.includes(platform));
      return missing.length === 0 ? [] : [`${each.component} is not there for ${missing.join(', ')}`];
    });
  return lacking.length === 0
    ? { gate, outcome: 'met', detail: `every image is there for ${platforms.join(', ')}` }
    : unmetGate(gate, candidate, {
        code: 'platform-lacking',
        what: 'a platform is missing',
        detail: lacking,
        remedy: 'build it for that platform, and publish a new version',
      });
}

function hasAnnotations(annotations: readonly string[], candidate: Candidate<CandidateComponent>): Gate {
  const gate = 'annotations';
  const lacking = contentOf(candidate).flatMap((each) => {
    const missing = annotations.filter((name) => !each.annotations.includes(name));
    return missing.length === 0 ? [] : [`${each.component} has no ${missing.join(', ')}`];
  });
  return lacking.length === 0
    ? { gate, outcome: 'met', detail: `every image has ${annotations.join(', ')}` }
    : unmetGate(gate, candidate, {
        code: 'annotation-lacking',
        what: 'an annotation is missing',
        detail: lacking,
        remedy: 'let the build write it, and publish a new version',
      });
}

function hasReferrers(types: readonly string[], candidate: Candidate<CandidateComponent>): Gate {
  const gate = 'referrers';
  const lacking = contentOf(candidate).flatMap((each) => {
    const missing = types.filter((type) => !each.referrers.includes(type));
    return missing.length === 0 ? [] : [`nothing of the type ${missing.join(', ')} refers to ${each.component}`];
  });
  return lacking.length === 0
    ? { gate, outcome: 'met', detail: `every image has what refers to it: ${types.join(', ')}` }
    : unmetGate(gate, candidate, {
        code: 'referrers-missing',
        what: 'a referrer is missing',
        detail: lacking,
        remedy: `push the referrer to ${candidate.from}, then promote again; no new build is needed`,
      });
}

/** A component, as far as rules about statements ask. */
type StatedComponent = AttestedComponent & Pick<CandidateComponent, 'kind'>;

/** A release that statements are asked of. */
type StatedCandidate = Pick<Candidate<StatedComponent>, 'release' | 'from' | 'to' | 'now' | 'components'> &
  Pick<TrustNow, 'trust' | 'knownSince'>;

/** Asks the rules about signed statements. */
export function attestedGates({ attested = [] }: Pick<AdmissionRules, 'attested'>, candidate: StatedCandidate): Gate[] {
  return attested.map((rule) => isAttested(rule, candidate));
}

/** Every image has a statement of a type that somebody who is trusted has signed. */
function isAttested(rule: AttestationRule, candidate: StatedCandidate): Gate {
  const gate = `attested ${rule.type}`;
  const found = findStatements(rule, contentOf(candidate), candidate);
  return found.outcome === 'met'
    ? { gate, ...found }
    : unmetGate(gate, candidate, {
        code: 'attestation-missing',
        what: 'a signed statement is missing',
        detail: found.detail,
        remedy: `let ${rule.by.join(' or ')} sign a statement of ${rule.type} about it, push that to ${candidate.from}, and promote again; no new build is needed`,
      });
}
