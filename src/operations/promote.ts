import { isCommitId } from '../core/commit';
import { HodError } from '../core/errors';
import { readContent } from '../core/oci/content';
import type { Release } from '../core/release/facts';
import { servedBefore } from '../core/release/gates/promotion';
import { chooseRelease, type Promotion, type ReleaseChoice } from '../core/release/promotion';
import { refuseUnmet } from '../core/release/refusal';
import type { Plan } from '../core/release/verdict';
import { parseVersion } from '../core/tags/version';
import { dayOf } from '../core/time';
import { deliver } from '../delivery/deliver';
import { arriving, type Delivery, type DeliveryContext, type DeliveryItem, type Orders } from '../delivery/delivery';
import { Judge } from '../delivery/judge';
import { promotionDelivery } from '../delivery/promotion';
import { toPromoteResult, type PromoteResult } from '../results/promote';
import { withLedger } from '../session/open-ledger';
import { actorOf, withProduct, type Session, type SessionOptions } from '../session/session';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';
import { History, readGit } from '../workspace/git';

/** What `promote` is told. */
export interface PromoteOptions extends SessionOptions {
  environment: string;
  /** The release to promote; what the environment before serves, where neither is given. */
  version?: string | undefined;
  commit?: string | undefined;
  actor?: string | undefined;
  strictOrder?: true | undefined;
  dryRun?: true | undefined;
}

/** An environment and the one before it. */
interface Step {
  readonly from: EnvironmentConfig;
  readonly to: EnvironmentConfig;
}

/** Carries a release, the same digests, from the environment before into an environment. */
export async function promote(options: PromoteOptions): Promise<PromoteResult> {
  return withProduct(options, async (config, session) => {
    const step = stepInto(config, options.environment);
    const choice = await readChoice(config, step, options);
    const dryRun = options.dryRun === true;
    return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      const context: DeliveryContext = {
        ledger,
        orders: ordersOf(config),
        observer: session.observer,
        actor: actorOf(options.actor),
        dryRun,
      };
      const { from, to } = step;
      const judge = new Judge(context, []);
      const release = (await judge.decide((known) => chooseRelease(choice, to.name, known))).value;
      // Before anything of it is read; the decision asks again.
      refuseUnmet([servedBefore(release, from.name, to.name)]);
      const items = await itemsOf(release, step, session);
      const delivered = await deliver(await deliveryOf(release, step, items, config, options), context);
      return toPromoteResult(
        { product: config.product, release, from: from.name, to: to.name, dryRun },
        delivered,
        ({ image }) => {
          const source = session.client(from.repositoryOf(image));
          return { repository: source.label, requests: source.requests };
        },
      );
    });
  });
}

function stepInto(config: Config, name: string): Step {
  const to = environmentNamed(config, name);
  if (to.after === undefined) {
    throw new HodError('first-environment', {
      what: 'nothing can be promoted here',
      object: name,
      why: 'it is the first environment; releases come into it by publishing',
      next: 'run `hod publish`, or name a later environment',
    });
  }
  return { from: environmentNamed(config, to.after), to };
}

async function readChoice({ folder }: Config, { from }: Step, options: PromoteOptions): Promise<ReleaseChoice> {
  const { version, commit } = options;
  if (version !== undefined && commit !== undefined) {
    throw new HodError('options-conflict', {
      what: 'two releases are named',
      object: `--version ${version} --commit ${commit}`,
      why: 'each of them names one',
      next: 'use one of them',
    });
  }
  if (version !== undefined) {
    return { version: parseVersion(version) };
  }
  if (commit === undefined) {
    return { servedBy: from.name, isFirst: from.after === undefined };
  }
  const git = await readGit(folder, commit);
  const id = 'commit' in git ? git.commit.id : commit;
  if (!isCommitId(id)) {
    throw new HodError('not-a-commit', {
      what: 'this is not a commit',
      object: commit,
      why: 'git does not know it here, and it is not a full commit id',
      next: 'give the full id: 40 or 64 lower-case hexadecimal digits',
    });
  }
  return { commit: id };
}

function ordersOf({ folder }: Config): Orders {
  const history = new History(folder);
  return {
    around: (commit, others) => history.around(commit, others),
    highest: () => Promise.resolve(undefined),
  };
}

/** Reads the content of a release where it is, on its way to where it goes. */
function itemsOf(release: Release, { from, to }: Step, session: Session): Promise<DeliveryItem[]> {
  return Promise.all(
    release.images.map(async ({ image, platforms, ...placed }) => {
      const node = await readContent(session.client(from.repositoryOf(image)), placed);
      return { image, node, platforms, target: session.client(to.repositoryOf(image)) };
    }),
  );
}

async function deliveryOf(
  release: Release,
  { from, to }: Step,
  items: readonly DeliveryItem[],
  { product, folder }: Config,
  { strictOrder }: PromoteOptions,
): Promise<Delivery<Plan>> {
  const git = await readGit(folder, release.commit);
  const promotion: Promotion = {
    product,
    release,
    from: from.name,
    environment: to.name,
    rules: to.rules,
    date: 'commit' in git ? dayOf(git.commit.time) : undefined,
    images: items.map(arriving),
    strictOrder: strictOrder === true,
  };
  return promotionDelivery(promotion, items);
}
