import type { Actor } from '../core/ledger/entry';
import { decideEvidence, type Evidence, type SignOffsCounted } from '../core/release/evidence';
import { withAnnouncing } from '../announcing/announce';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { appendDeciding } from '../delivery/record';
import { readEvidenceChoice, type NamedRelease } from '../delivery/sources/choice';
import { toRecorded, type ResultResult, type SignOffResult } from '../results/record';
import { actorOf } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { environmentNamed, passageInto, type Config, type EnvironmentConfig } from '../workspace/config';
import { readCheckoutRules } from '../workspace/checkout-rules';
import type { ProductRules } from '../core/ledger/rules';
import { signSignOffs } from '../delivery/sign-off';

/** What every recording of evidence is told. */
export interface EvidenceOptions extends SessionOptions, NamedRelease {
  environment: string;
  /** What the environment serves is meant, whatever is checked out. */
  serving?: true | undefined;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/** What `record sign-off` is told. */
export interface SignOffOptions extends EvidenceOptions {
  /** Sign with an SSH key: the path of a key, or what git signs with. */
  sign?: string | true | undefined;
}

/** What `record result` is told. */
export interface ResultOptions extends EvidenceOptions {
  name: string;
  passed: boolean;
  link?: string | undefined;
}

/** Records what was found out about what an environment serves, or about a named release in it. */
export async function recordResult(options: ResultOptions): Promise<ResultResult> {
  const { name, passed, link } = options;
  return withProduct(options, async (config, session) => {
    const environment = environmentNamed(config, options.environment);
    const choice = await readEvidenceChoice(config.folder, environment, options);
    const said = { kind: 'result', name, passed, link } as const;
    const recorded = await append({ choice, environment: environment.name, said }, options, config, session);
    return { ...recorded, name, passed, link: link ?? null };
  });
}

/** Records that what the environment before serves, or a named release, may enter an environment. */
export async function signOff(options: SignOffOptions): Promise<SignOffResult> {
  return withProduct(options, async (config, session) => {
    const { from, to } = passageInto(config, options.environment);
    const choice = await readEvidenceChoice(config.folder, from, options);
    const { rules } = await readCheckoutRules(config, undefined);
    const evidence = {
      choice,
      environment: to.name,
      said: { kind: 'signed-off' },
      counts: countedBy(to, rules),
    } as const;
    return append(evidence, options, config, session);
  });
}

/** Whose sign-offs an environment counts. */
function countedBy({ admissionRules }: EnvironmentConfig, { groups = [] }: ProductRules): SignOffsCounted {
  const { signOffsFrom: from, signOffsProven } = admissionRules;
  const people = from && groups.filter(({ name }) => from.includes(name)).flatMap((each) => each.people);
  return { groups: from ?? [], people, proven: signOffsProven === true };
}

async function append(
  evidence: Omit<Evidence, 'by'>,
  options: SignOffOptions,
  config: Config,
  session: Session,
): Promise<SignOffResult> {
  const { product, folder } = config;
  const dryRun = options.dryRun === true;
  const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
  return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
    await refuseEmpty(config, ledger);
    const judge = new Judge({ ledger, orders: commitOrders(folder) }, []);
    const { said, by } =
      options.sign === undefined
        ? { said: evidence.said, by: await actor() }
        : await signSignOffs(evidence, { key: options.sign, actor: options.actor }, { config, judge, session });
    const deciding = async () => {
      const judged = await judge.decide((known) => decideEvidence({ ...evidence, said, by: by.name }, known));
      return { ...judged, actions: dryRun ? [] : judged.value.actions };
    };
    const { value } = await appendDeciding({ ledger, product, actor: by, observer: session.observer }, deciding);
    const { chosen, actions } = value;
    return {
      product,
      environment: evidence.environment,
      by: by.name,
      dryRun,
      isNew: actions.length > 0,
      releases: toRecorded(chosen),
    };
  });
}
