import { HodError } from '../core/errors';
import type { Actor } from '../core/ledger/entry';
import { contentId, type ContentId } from '../core/ledger/release';
import { decideEvidence, type Evidence, type SignedSignOff } from '../core/release/evidence';
import { environmentRulesDigest, signedBySshKey, signOffNamespace, signOffText } from '../core/release/gates/sign-offs';
import { timestampOf } from '../core/time';
import { signedBy } from '../session/actor';
import type { Session } from '../session/session';
import type { ProductRules } from '../core/ledger/rules';
import type { Config } from '../workspace/config';
import { signingKey } from '../workspace/git';
import { readSigner, signText } from '../workspace/ssh-signature';
import type { Judge } from './judge';

/** A sign-off with the signatures of a person, and who that is. */
interface SignedEvidence {
  readonly said: { readonly kind: 'signed-off'; readonly signed: SignedSignOff };
  readonly by: Actor;
}

/**
 * Signs off releases with an SSH key, and checks the signature as a promotion will.
 *
 * @throws `signing-failed`, also where nobody in `trust: { people }` has the key.
 */
export async function signSignOffs(
  evidence: Omit<Evidence, 'by'>,
  { key, actor }: { readonly key: string | true; readonly actor: string | undefined },
  {
    config,
    rules,
    judge,
    session,
  }: {
    readonly config: Config;
    readonly rules: ProductRules;
    readonly judge: Judge;
    readonly session: Pick<Session, 'observer' | 'secrets'>;
  },
): Promise<SignedEvidence> {
  const { product } = config;
  const { environment } = evidence;
  // Which releases are meant does not turn on who signs.
  const { value } = await judge.decide((known) => decideEvidence({ ...evidence, counts: undefined, by: '' }, known));
  const digest = environmentRulesDigest(environment, rules);
  const signatures = new Map<ContentId, string>();
  const names = new Set<string>();
  for (const { release } of value.chosen) {
    const content = contentId(release.components);
    const text = signOffText({ product, environment, content, rules: digest });
    const { signature, by } = await signAs({ text, namespace: signOffNamespace }, key, rules.trust, config);
    signatures.set(content, signature);
    names.add(by);
  }
  const [name = ''] = names;
  return {
    said: { kind: 'signed-off', signed: { rules: digest, signatures } },
    by: await signedBy(name, actor, config, session),
  };
}

/**
 * Signs a text with an SSH key, and finds out whose it is.
 *
 * @param key The path of a key; true for the one that git signs with.
 * @throws `signing-failed`, also where nobody whom `trust` names has the key.
 */
export async function signAs(
  { text, namespace }: { readonly text: string; readonly namespace: string },
  key: string | true,
  trust: ProductRules['trust'],
  { folder }: Pick<Config, 'folder'>,
): Promise<{ readonly signature: string; readonly by: string }> {
  const file = key === true ? await signingKey(folder) : key;
  if (file === undefined) {
    throw notSigned('git', 'git has no SSH key to sign with (`user.signingkey`)');
  }
  const signature = await signText(text, file, namespace);
  const at = timestampOf(new Date());
  const { by, problem } = await readSigner(signedBySshKey(text, namespace, { signature, at }, trust));
  if (by === undefined) {
    throw notSigned(file, problem);
  }
  return { signature, by };
}

function notSigned(object: string, why: string): HodError {
  return new HodError('signing-failed', {
    what: 'this cannot be signed',
    object,
    why,
    next: 'name a key with --sign FILE, whose public key `trust: { people }` in hod.yaml names',
  });
}
