import type { Passage } from '../core/release/gates/passage';
import type { Actor } from '../core/ledger/entry';
import { despiteOf, type Despite, type DespiteOptions } from '../core/release/despite';
import { chooseCandidates, type Promotion, type ReleaseChoice } from '../core/release/promotion';
import { timestampOf } from '../core/time';
import { deliver } from '../delivery/deliver';
import { withAnnouncing } from '../announcing/announce';
import { mannerOf, type DeliveryContext } from '../delivery/delivery';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { promotionDelivery } from '../delivery/promotion';
import { readChoice, type NamedRelease } from '../delivery/sources/choice';
import { readTaking } from '../delivery/sources/read-following';
import { readReleased } from '../delivery/sources/released';
import type { TogetherMember } from '../delivery/together';
import { toPromoteResult, type PromoteResult } from '../results/promote';
import { actorOf, prepared } from '../session/actor';
import { noteUnshared, refuseEmpty } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { SharedRemoteReader } from '../workspace/shared-remote';
import { admissionRulesIn } from '../core/ledger/rules';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { checkedOut } from '../workspace/git';
import { trustsNobody } from '../core/trust/trust-rules';
import { formatRepository } from '../core/oci/reference';
import {
  chosenComponents,
  environmentNamed,
  passageInto,
  type Config,
  type EnvironmentConfig,
} from '../workspace/config';
import { moveIfElsewhere } from './moving';
import { stepsAfterDelivery } from './next-steps';

/** What `promote` is told. */
export interface PromoteOptions extends SessionOptions, NamedRelease, DespiteOptions {
  environment: string;
  /** The components to promote; all where none is named. */
  only?: readonly string[] | undefined;
  actor?: string | undefined;
  strictOrder?: true | undefined;
  /** Look at everything that is there already, and send what the registry lost. */
  mend?: true | undefined;
  dryRun?: true | undefined;
  /** The part of the product in what several products do in one step. */
  member?: TogetherMember | undefined;
}

/** Carries releases, the same digests, from the environment before into an environment. */
export async function promote(options: PromoteOptions): Promise<PromoteResult> {
  return withProduct(options, async (config, session) => {
    const passage = passageInto(config, options.environment);
    const { to } = passage;
    const chosen = await readChosen(options, passage, config);
    const dryRun = options.dryRun === true;
    const about = { command: 'promote', environment: to.name } as const;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { about, actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      noteUnshared(config, session);
      const { observer } = session;
      const orders = commitOrders(config.folder);
      const remote = new SharedRemoteReader(config);
      const context = { ledger, orders, remote, observer, actor: await prepared(actor(), { dryRun }), dryRun };
      const result = await promoteInto(passage, chosen, options, { config, session, context });
      return { ...result, next: dryRun ? [] : stepsAfterDelivery(config, options.config, to.name, result) };
    });
  });
}

/** What a promotion is asked to bring in, and what it sets aside. */
interface Chosen {
  readonly choice: ReleaseChoice;
  readonly only: readonly string[] | undefined;
  readonly despite: Despite;
}

async function readChosen(
  options: PromoteOptions,
  { from }: Passage<EnvironmentConfig>,
  config: Config,
): Promise<Chosen> {
  const choice = await readChoice(config.folder, from, options);
  const only = options.only === undefined ? undefined : chosenComponents(config, options.only).map(({ name }) => name);
  return { choice, only, despite: despiteOf(options) };
}

async function promoteInto(
  passage: Passage<EnvironmentConfig>,
  { choice, only, despite }: Chosen,
  options: PromoteOptions,
  { config, session, context }: { config: Config; session: Session; context: DeliveryContext },
): Promise<Omit<PromoteResult, 'next'>> {
  const { from, to } = passage;
  const names = { from: from.name, to: to.name };
  const moved = await moveIfElsewhere(config, to, { ...options, despite }, { session, context });
  const taking = await readTaking(config, to);
  const candidates = { ...names, taking };
  // Where the environment moved, to mend it is to bring along what it serves, and nothing new.
  const staying = moved !== undefined && options.mend === true && 'servedBy' in choice;
  const asked = staying ? { servedBy: to.name, isFirst: false } : choice;
  const chosen = await new Judge(context, []).decide((known) => chooseCandidates(asked, only, candidates, known));
  const way = staying && !context.dryRun ? { from: to, to } : passage;
  const checkout = await readCheckoutRules(config, await checkedOut(config.folder));
  const trust = checkout.rules.trust ?? trustsNobody;
  const parts = await Promise.all(chosen.value.map((each) => readReleased(each, way, { session, config, trust })));
  const promotion: Promotion = {
    product: config.product,
    parts,
    from: from.name,
    environment: to.name,
    rulesOf: to.rulesOf,
    taking,
    admissionRules: admissionRulesIn(checkout.rules, to.name),
    trust,
    placesBefore: (component) =>
      to.before.map((each) => formatRepository(environmentNamed(config, each).repositoryOf(component))),
    now: timestampOf(new Date()),
    strictOrder: options.strictOrder === true,
    despite,
    checkout,
  };
  const items = parts.flatMap((part) => part.items);
  const delivered = await deliver(promotionDelivery(promotion, items, mannerOf(to, options)), {
    ...context,
    together: options.member,
  });
  const releases = chosen.value.map(({ release }) => release);
  const about = { config, releases, ...names, dryRun: context.dryRun, moved, staying };
  return toPromoteResult(about, delivered, ({ component }) => {
    const source = session.client(from.repositoryOf(component));
    return { repository: source.label, requests: source.requests };
  });
}
