import type { CommitId } from '../commit';
import type { Passage } from './gates/passage';
import { HodError } from '../errors';
import type { RulesOf } from '../tags/rules';
import type { Version } from '../tags/version';
import type { RepositoryName } from '../oci/reference';
import type { TrustRules } from '../trust/trust-rules';
import type { SignedDocument, TrustNow } from './gates/attested';
import type { CommitSigner } from './gates/signed-commit';
import type { Timestamp } from '../time';
import type { Action } from '../ledger/entries';
import { cameInto, laneFacts, servedIn } from '../ledger/environment';
import type { AdmissionRules, ProductRules } from '../ledger/rules';
import { listedIn, referrersKey, withdrawalOf, withdrawnKey, type Facts, type Release } from '../ledger/facts';
import { admissionGates, type CandidateComponent, type Ruling } from './gates/admission';
import { signedText, signedTexts } from './gates/sign-offs';
import { unmetAmong, type Gate } from './gates/gate';
import { cameThrough, comesIn } from './gates/promotion';
import { isTaken, type Taking } from './gates/taking';
import { someTag, tagLeadsThere } from './gates/tags';
import { factNeed, refusedBy, together, type Decision, type Judgement, type Knowledge, type Need } from './knowledge';
import { contentId, type ContentId, type PlacedComponent, type ReleaseId } from '../ledger/release';
import {
  arrivalOf,
  isKnown,
  judge,
  tagsWanted,
  type ArrivingComponent,
  type Destination,
  type Plan,
  type Verdict,
} from './verdict';

/** A release, by its version or its commit. */
export type NamedChoice = { readonly version: Version } | { readonly commit: CommitId };

/** Which releases are meant: a named one, or what an environment serves. */
export type ReleaseChoice = NamedChoice | ServedChoice;

/** What an environment serves. */
export interface ServedChoice {
  readonly servedBy: string;
  /** Builds are published into it. */
  readonly isFirst: boolean;
}

/** A release, and those of its components that are meant. */
export interface ChosenRelease {
  readonly release: Release;
  readonly components: readonly PlacedComponent[];
}

/**
 * Chooses the releases that are meant: one that is named, or all that an environment serves, each with
 * those of its components that are served. Refused where there is none.
 *
 * @param only The components that are meant; all where undefined.
 * @param purpose What they are chosen for, such as `uat`.
 */
export function chooseReleases(
  choice: ReleaseChoice,
  only: readonly string[] | undefined,
  purpose: string,
  known: Knowledge,
): Decision<ChosenRelease[]> {
  const chosen = 'servedBy' in choice ? chooseServed(choice, purpose, known) : chooseNamed(choice, known);
  if (chosen.kind !== 'decided') {
    return chosen;
  }
  const unknown = known.missing(chosen.value.map(({ id }) => factNeed('release', id)));
  if (unknown !== undefined) {
    return unknown;
  }
  const releases = chosen.value.flatMap(({ id, components }): ChosenRelease[] => {
    const release = releaseNamed(id, known);
    const meant = release.components.filter(
      ({ component }) => (components?.includes(component) ?? true) && (only?.includes(component) ?? true),
    );
    return meant.length === 0 ? [] : [{ release, components: meant }];
  });
  return releases.length > 0
    ? { kind: 'decided', value: releases }
    : refusedBy('release', {
        code: 'components-not-there',
        what: 'there is no release of this',
        object: (only ?? []).join(', '),
        detail: 'servedBy' in choice ? `${choice.servedBy} serves none of these` : 'the release holds none of these',
        remedy: '`hod status` shows what each environment serves',
      });
}

/**
 * Chooses the releases that are to come into an environment; refused where they did not come through the one before, or are of
 * another branch than it takes. A release that the environment already has may be mended.
 */
export function chooseCandidates(
  choice: ReleaseChoice,
  only: readonly string[] | undefined,
  { from, to, taking }: Passage & { readonly taking: Taking },
  known: Knowledge,
): Decision<ChosenRelease[]> {
  const chosen = chooseReleases(choice, only, to, known);
  if (chosen.kind !== 'decided') {
    return chosen;
  }
  const contentOf = ({ release }: ChosenRelease): ContentId => contentId(release.components);
  const unknown = known.missing(
    chosen.value.flatMap((each) =>
      [from, to].map((environment) => factNeed('withdrawn', withdrawnKey(environment, contentOf(each)))),
    ),
  );
  if (unknown !== undefined) {
    return unknown;
  }
  const gates = chosen.value.flatMap((each) => {
    const names = each.components.map(({ component }) => component);
    const isThere = names.every((component) => cameInto(each.release, to, component));
    if (isThere && withdrawalOf(known.facts, to, contentOf(each)) === undefined) {
      return [repair(to)];
    }
    return [
      isTaken(each.release, taking, to),
      cameThrough(each.release, names, { from, to }, withdrawalOf(known.facts, from, contentOf(each))),
    ];
  });
  return unmetAmong(gates).length > 0 ? { kind: 'refused', gates } : chosen;
}

function releaseNamed(id: ReleaseId, { facts }: Knowledge): Release {
  const release = facts.get('release', id);
  if (release === undefined) {
    throw new HodError('ledger-corrupt', {
      what: 'the ledger contradicts itself',
      object: `the release ${id}`,
      why: 'it is named, and was never published',
      next: '`hod ledger verify` says more; restore the ledger before going on',
    });
  }
  return release;
}

/** A release by its id, and the names of those of its components that are meant; all where undefined. */
interface ChosenId {
  readonly id: ReleaseId;
  readonly components?: readonly string[];
}

function chooseNamed(choice: NamedChoice, known: Knowledge): Decision<readonly ChosenId[]> {
  const need = 'version' in choice ? factNeed('version', choice.version) : factNeed('commit', choice.commit);
  const unknown = known.missing([need]);
  if (unknown !== undefined) {
    return unknown;
  }
  const found =
    'version' in choice ? known.facts.get('version', choice.version) : known.facts.get('commit', choice.commit);
  return found !== undefined
    ? { kind: 'decided', value: [{ id: found.release }] }
    : refusedBy('release', {
        code: 'never-published',
        what: 'this was never published',
        object: 'version' in choice ? `version ${choice.version}` : `commit ${choice.commit}`,
        detail: 'the ledger has no release of it',
        remedy: 'publish it first; `hod status` shows what each environment serves',
      });
}

function chooseServed(
  { servedBy, isFirst }: ServedChoice,
  purpose: string,
  known: Knowledge,
): Decision<readonly ChosenId[]> {
  const unknown = known.missing([factNeed('environment', servedBy)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const served = servedIn(known.facts, servedBy);
  const ids = [...new Set(served.map(({ release }) => release))];
  return ids.length > 0
    ? {
        kind: 'decided',
        value: ids.map((id) => ({
          id,
          components: served.filter(({ release }) => release === id).map(({ component }) => component),
        })),
      }
    : refusedBy('release', {
        code: 'environment-empty',
        what: 'nothing is served there',
        object: purpose,
        detail: `${servedBy} serves nothing yet`,
        remedy: `${
          isFirst
            ? `run \`hod publish\` on a branch that ${servedBy} follows first`
            : `run \`hod promote ${servedBy}\` first`
        }; where ${servedBy} has releases from before this ledger, \`hod adopt ${servedBy}\` records what it serves`,
      });
}

/** One of the releases that come into an environment together. */
export interface PromotedPart {
  readonly release: Release;
  /** Those of its components that come in. */
  readonly components: readonly (ArrivingComponent & CandidateComponent)[];
  /** The day of the release's commit, `YYYYMMDD`; undefined where git does not know it. */
  readonly date: string | undefined;
  /** Who signed its commit; undefined where no rule asks. */
  readonly commitSigner: CommitSigner | undefined;
}

/** Releases that are to come into an environment from the one before, all or none. */
export interface Promotion extends Omit<Destination, 'components'> {
  readonly product: string;
  readonly parts: readonly PromotedPart[];
  readonly from: string;
  readonly rulesOf: RulesOf;
  readonly taking: Taking;
  readonly admissionRules: AdmissionRules;
  readonly trust: TrustRules;
  /** The repositories of a component in the environments before, the nearest first. */
  readonly placesBefore: (component: string) => readonly RepositoryName[];
  readonly now: Timestamp;
}

/** Decides about a promotion: how each component comes in, its tags, and its gates. */
export function decidePromotion(promotion: Promotion, known: Knowledge): Judgement<readonly Verdict<Plan>[]> {
  const judged = together(promotion.parts.map((part) => decidePart(part, promotion, known)));
  return 'value' in judged ? { ...judged, value: retiringOnce(judged.value) } : judged;
}

/** Leaves a component to the first release that it retires with, where several come in together. */
function retiringOnce(verdicts: readonly Verdict<Plan>[]): Verdict<Plan>[] {
  const gone = new Set<string>();
  return verdicts.map((verdict) => {
    const retires = verdict.retires.filter((component) => !gone.has(component));
    retires.forEach((component) => gone.add(component));
    return { ...verdict, retires };
  });
}

function decidePart(
  { release, components, date, commitSigner }: PromotedPart,
  promotion: Promotion,
  known: Knowledge,
): Judgement<Verdict<Plan>> {
  const { from, environment, taking } = promotion;
  const content = contentId(release.components);
  const unknown =
    known.missing([
      factNeed('environment', from),
      factNeed('evidence', content),
      factNeed('withdrawn', withdrawnKey(from, content)),
      ...laneFacts(from, release).map((fact): Need => ({ kind: 'fact', fact })),
      ...components.flatMap((each) => documentKeys(each, promotion).map((key) => factNeed('referrers', key))),
    ]) ?? known.missing(signerNeeds(content, promotion, known.facts));
  if (unknown !== undefined) {
    return unknown;
  }
  const plan = planOf({ release, components, date }, content, promotion);
  return judge(
    plan,
    { ...promotion, components },
    ({ facts, arrivals, retires, decisions }) => {
      const current = facts.get('release', release.release) ?? release;
      const names = components.map(({ component }) => component);
      if (
        isKnown(environment, { plan, decisions, arrivals, retires }, facts) &&
        arrivals.every(({ way }) => way !== 'held')
      ) {
        return [repair(environment)];
      }
      const withdrawal = withdrawalOf(facts, environment, content);
      const tagged = someTag(environment, plan.tags, { versionHeld: false });
      return [
        isTaken(current, taking, environment),
        cameThrough(current, names, { from, to: environment }, withdrawalOf(facts, from, content)),
        comesIn(current, arrivals, environment, {
          withdrawal,
          decisions,
          facts,
        }),
        tagged.outcome === 'met' ? tagLeadsThere(environment, decisions, arrivals) : tagged,
        ...askRules({ release: current, components, commitSigner }, content, promotion, known),
      ];
    },
    known,
  );
}

/** Asks the rules of the environment about a part of a promotion. */
function askRules(
  part: Omit<PromotedPart, 'date'>,
  content: ContentId,
  promotion: Promotion,
  known: Knowledge,
): Gate[] {
  const { facts } = known;
  const { from, environment: to, admissionRules, trust, now, despite } = promotion;
  const passage = { from, to, now, despiteFreeze: despite.freeze };
  const ruling = rulingOf(content, promotion, known);
  const candidate = { ...part, ...passage, trust, ruling, knownSince: knownSince(promotion, facts) };
  return admissionGates(admissionRules, candidate, facts, facts.get('evidence', content));
}

/** Whom a promotion asks about signatures, and by which rules. */
interface SignedPassage {
  readonly product: string;
  readonly environment: string;
  readonly admissionRules: AdmissionRules;
  readonly checkout: { readonly rules: ProductRules } | undefined;
}

/** Returns which signatures under sign-offs must be checked; `facts`: the evidence of the content too. */
export function signerNeeds(content: ContentId, passage: SignedPassage, facts: Facts): Need[] {
  const { product, environment, admissionRules, checkout } = passage;
  const about = { product, environment, content };
  return admissionRules.signOffsProven !== true
    ? []
    : signedTexts(about, facts.get('evidence', content), checkout?.rules.trust).map((each) => ({
        kind: 'signer',
        ...each,
      }));
}

/** Returns what is known of the rules of a product, and of signatures under sign-offs of some content. */
export function rulingOf(
  content: ContentId,
  { product, environment, checkout }: SignedPassage,
  known: Knowledge,
): Ruling {
  return {
    product,
    rules: checkout?.rules,
    signerOf: (signOff) => {
      const [text] = signedText(signOff, { product, environment, content }, checkout?.rules.trust);
      return text && known.signerOf(text);
    },
  };
}

/** The facts about the manifests of a component that signed documents refer to, in the environments before. */
function documentKeys(
  { component, documents }: PromotedPart['components'][number],
  { placesBefore }: Pick<Promotion, 'placesBefore'>,
): string[] {
  return documents.flatMap(({ subject }) => placesBefore(component).map((place) => referrersKey(place, subject)));
}

/** When the ledger first knew of a signed document: in any of the environments before. */
function knownSince({ placesBefore }: Pick<Promotion, 'placesBefore'>, facts: Facts): TrustNow['knownSince'] {
  return (component: string, { subject, referrer }: SignedDocument) => {
    const times = placesBefore(component).flatMap((place) =>
      (facts.get('referrers', referrersKey(place, subject)) ?? []).flatMap(({ digest, at }) =>
        digest === referrer && at !== undefined ? [at] : [],
      ),
    );
    return times.sort()[0];
  };
}

/** What a part of a promotion means to do. */
function planOf(
  { release, components, date }: Omit<PromotedPart, 'commitSigner'>,
  content: ContentId,
  { product, parts, rulesOf }: Pick<Promotion, 'product' | 'parts' | 'rulesOf'>,
): Plan {
  const { commit, version, branch, build } = release;
  const values = { product, commit, version, branch, build, date, dirty: false };
  return {
    origin: { commit, version, branch },
    release: release.release,
    content,
    tags: tagsWanted(components, rulesOf, values),
    // What comes in with it does not retire.
    lists: [...listedIn(release), ...parts.flatMap((each) => each.components.map(({ component }) => component))],
  };
}

/** Allows a repair of a release that the environment already has, whatever the rules say now: it brings nothing new. */
function repair(environment: string): Gate {
  return { gate: 'repair', outcome: 'met', detail: `${environment} has this release already` };
}

/** What a promotion writes into the ledger about one of its releases. */
export function promotedAction(
  { environment, from, despite, parts }: Promotion,
  verdict: Verdict<Plan>,
  components: PlacedComponent[],
  { decidedTogether }: { readonly decidedTogether: boolean },
): Action {
  const build = parts.find(({ release }) => release.release === verdict.plan.release)?.release.build;
  const arrival = arrivalOf(environment, verdict, components, despite);
  return { kind: 'promoted', ...arrival, build, from, ...(decidedTogether ? { together: true } : {}) };
}
