import { HodError } from '../core/errors';
import type { Actor } from '../core/ledger/entry';
import { contentId, type ContentId } from '../core/ledger/release';
import { decideEvidence, type Evidence, type SignedSignOff } from '../core/release/evidence';
import { environmentRulesDigest, signOffNamespace, signOffText } from '../core/release/gates/sign-offs';
import { timestampOf } from '../core/time';
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
    readonly session: Pick<Session, 'observer'>;
  },
): Promise<SignedEvidence> {
  const { product, folder } = config;
  const { environment } = evidence;
  const file = key === true ? await signingKey(folder) : key;
  if (file === undefined) {
    throw notSigned('git', 'git has no SSH key to sign with (`user.signingkey`)');
  }
  // Which releases are meant does not turn on who signs.
  const { value } = await judge.decide((known) => decideEvidence({ ...evidence, counts: undefined, by: '' }, known));
  const digest = environmentRulesDigest(environment, rules);
  const signatures = new Map<ContentId, string>();
  const names = new Set<string>();
  for (const { release } of value.chosen) {
    const content = contentId(release.components);
    const text = signOffText({ product, environment, content, rules: digest });
    const signature = await signText(text, file, signOffNamespace);
    const signed = { text, signature, at: timestampOf(new Date()), people: rules.trust?.people ?? [] };
    const { by, problem } = await readSigner(signed, signOffNamespace);
    if (by === undefined) {
      throw notSigned(file, problem);
    }
    signatures.set(content, signature);
    names.add(by);
  }
  const [name = ''] = names;
  if (actor !== undefined && actor !== name) {
    session.observer.note(`--actor ${actor} is not recorded: the signature is of ${name}`);
  }
  return { said: { kind: 'signed-off', signed: { rules: digest, signatures } }, by: { name, proven: true } };
}

function notSigned(object: string, why: string): HodError {
  return new HodError('signing-failed', {
    what: 'this sign-off cannot be signed',
    object,
    why,
    next: 'name a key with --sign FILE, whose public key `trust: { people }` in hod.yaml names',
  });
}
