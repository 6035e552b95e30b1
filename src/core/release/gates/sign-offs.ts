import { sha256, type Digest } from '../../oci/digest';
import { publishersOf, type Fact, type Release } from '../../ledger/facts';
import { productRulesSchema, rulesOf, wayTo, type AdmissionRules, type ProductRules } from '../../ledger/rules';
import type { ContentId } from '../../ledger/release';
import type { Timestamp } from '../../time';
import { matchesText } from '../../trust/text-pattern';
import type { TrustRules } from '../../trust/trust-rules';
import type { SignedText, Signer } from '../../trust/signed-text';
import type { Gate } from './gate';
import { unmetGate } from './refused-release';
import { releaseOption } from './release-option';

/** The namespace of signatures under sign-offs (OpenSSH, PROTOCOL.sshsig): a signature for anything else is none of them. */
export const signOffNamespace = 'hod-sign-off';

/** The namespace of signatures under rules that people accept. */
export const rulesNamespace = 'hod-rules';

/** A sign-off that the ledger knows. */
export type SignOff = Fact<'evidence'>['signOffs'][number];

/** What a sign-off is about: some content, for an environment with its rules. */
export interface SignedOff {
  readonly product: string;
  readonly environment: string;
  readonly content: ContentId;
  /** {@link environmentRulesDigest} of the rules that it is made under. */
  readonly rules: Digest;
}

/** Returns the text that a person signs: the same for all that sign off the same. */
export function signOffText({ product, environment, content, rules }: SignedOff): string {
  return [
    'hod sign-off',
    `product: ${product}`,
    `environment: ${environment}`,
    `content: ${content}`,
    `rules: ${rules}`,
    '',
  ].join('\n');
}

/** Returns the digest of the rules that decide what comes into an environment: others of the product do not change it. */
export function environmentRulesDigest(environment: string, rules: ProductRules): Digest {
  // In the order of the schema: rules that were read and rules that were kept must say the same.
  const sorted = productRulesSchema.parse(rules);
  const { trust, groups } = sorted;
  return sha256(JSON.stringify([rulesOf(sorted, environment), wayTo(sorted, environment), trust, groups]));
}

/** What is known where sign-offs are counted. */
export interface SignOffsKnown {
  readonly rules: AdmissionRules;
  readonly groups: ProductRules['groups'];
  readonly issuers: TrustRules['issuers'];
  readonly evidence: Fact<'evidence'> | undefined;
  /** The rules that a signed sign-off must be made under; undefined where they are not known. */
  readonly digest: Digest | undefined;
  readonly signerOf: (signOff: SignOff) => Signer | undefined;
}

/** Returns the people of some groups; undefined, everybody, where no group is named. */
export function peopleOf(
  from: readonly string[] | undefined,
  groups: ProductRules['groups'] = [],
): string[] | undefined {
  return from && groups.filter(({ name }) => from.includes(name)).flatMap(({ people }) => people);
}

/** Different people, none of whom published it, under whatever version; those that the environment counts, and as it asks. */
export function enoughSignOffs(
  candidate: { readonly release: Release; readonly to: string },
  { rules, groups, issuers, evidence, digest, signerOf }: SignOffsKnown,
): Gate {
  const { to, release } = candidate;
  const gate = 'sign-offs';
  const publishers = publishersOf(release, evidence);
  const from = rules.signOffsFrom;
  const people = peopleOf(from, groups);
  const whyNot = (signOff: SignOff): string | undefined => {
    const { by } = signOff;
    if (publishers.includes(by)) {
      return `${by} published it`;
    }
    if (people?.includes(by) === false) {
      return `${by} is not of ${from?.join(' or ') ?? ''}`;
    }
    return rules.signOffsProven === true ? whyUnproven(signOff, { to, digest, issuers, signerOf }) : undefined;
  };
  const all = (evidence?.signOffs ?? []).filter(({ environment }) => environment === to);
  const judged = all.map((each) => ({ by: each.by, why: whyNot(each) }));
  const counted = [...new Set(judged.filter(({ why }) => why === undefined).map(({ by }) => by))];
  const uncounted = [...new Set(judged.flatMap(({ why }) => why ?? []))];
  const others = uncounted.length === 0 ? '' : `; not counted: ${uncounted.join(', ')}`;
  if (counted.length >= rules.signOffs) {
    return { gate, outcome: 'met', detail: `signed off by ${counted.join(', ')}${others}` };
  }
  const missing = rules.signOffs - counted.length;
  const who = `${missing === 1 ? 'one more person' : `${missing} more people`}${from === undefined ? '' : ` of ${from.join(' or ')}`}`;
  return unmetGate(gate, candidate, {
    code: 'sign-off-missing',
    what: 'a sign-off is missing',
    detail: `${counted.length} of ${rules.signOffs} signed off${counted.length === 0 ? '' : `: ${counted.join(', ')}`}${others}`,
    remedy: `let ${who} run \`hod record sign-off --for ${to}${releaseOption(release)}${rules.signOffsProven === true ? ' --sign' : ''}\`${publishers.length === 0 ? '' : `; not ${publishers.join(', ')}, who published it`}`,
  });
}

/** Why it is not proven who signed off; undefined where it is. */
function whyUnproven(
  signOff: SignOff,
  { to, digest, issuers, signerOf }: Omit<SignOffsKnown, 'rules' | 'groups' | 'evidence'> & { readonly to: string },
): string | undefined {
  const { by, issuer, signature, rules } = signOff;
  if (issuer !== undefined) {
    return isIssued(by, issuer, issuers) ? undefined : `the rules do not trust ${issuer} for ${by}`;
  }
  if (signature === undefined) {
    return `${by} did not sign it`;
  }
  if (rules !== digest) {
    return `${by} signed it under other rules of ${to}`;
  }
  return whyOther(by, signerOf(signOff));
}

/** Why a signature is not that of a person; undefined where it is. */
export function whyOther(by: string, signer: Signer | undefined): string | undefined {
  return signer?.by === by
    ? undefined
    : `the signature of ${by} does not count: ${signer?.problem ?? `it is of ${signer?.by ?? 'nobody'}`}`;
}

/** Whether rules trust an issuer for a job. */
export function isIssued(subject: string, issuer: string, issuers: TrustRules['issuers'] = []): boolean {
  return issuers.some(({ name, subjects }) => name === issuer && subjects.some((each) => matchesText(each, subject)));
}

/** Returns what a person signs who accepts rules for an environment. */
export function acceptanceText({ product, environment, rules }: Omit<SignedOff, 'content'>): string {
  return ['hod rules', `product: ${product}`, `environment: ${environment}`, `rules: ${rules}`, ''].join('\n');
}

/** A text that a person signed with an SSH key, to be checked by the people whom rules trust. */
export function signedBySshKey(
  text: string,
  namespace: string,
  { signature, at }: { readonly signature: string; readonly at: Timestamp },
  trust: ProductRules['trust'],
): SignedText {
  return { text, namespace, signature, at, people: trust?.people ?? [] };
}

/** Returns the signed texts under sign-offs about some content, for an environment. */
export function signedTexts(
  { product, environment, content }: Omit<SignedOff, 'rules'>,
  evidence: Fact<'evidence'> | undefined,
  trust: ProductRules['trust'],
): SignedText[] {
  return (evidence?.signOffs ?? []).flatMap((signOff) =>
    signOff.environment === environment ? signedText(signOff, { product, environment, content }, trust) : [],
  );
}

/** Returns the signed text under a sign-off, where it was signed. */
export function signedText(
  { signature, rules, at }: SignOff,
  about: Omit<SignedOff, 'rules'>,
  trust: ProductRules['trust'],
): SignedText[] {
  return signature === undefined || rules === undefined
    ? []
    : [signedBySshKey(signOffText({ ...about, rules }), signOffNamespace, { signature, at }, trust)];
}
