import { HodError } from '../core/errors';
import type { Actor } from '../core/ledger/entry';
import { needReason } from '../core/release/despite';
import { parseVersion } from '../core/tags/version';
import { withAnnouncing } from '../announcing/announce';
import { recordAdoption } from '../delivery/adoption/adopt';
import { followedBranches, readShown, type ShownContents } from '../delivery/adoption/find';
import { identifyServed } from '../delivery/adoption/identify';
import { commitOrders } from '../delivery/orders';
import { commitGiven } from '../delivery/sources/choice';
import { toAdoptResult, type AdoptResult } from '../results/adopt';
import { actorOf } from '../session/actor';
import { noteUnshared } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { chosenComponents, environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';
import { readHistory } from '../workspace/git';
import { stepsAfterAdoption } from './next-steps';

/** What `adopt` is told. */
export interface AdoptOptions extends SessionOptions {
  environments: readonly string[];
  /** The components to adopt; all where none is named. */
  only?: readonly string[] | undefined;
  /** What is served is this version. */
  version?: string | undefined;
  /** What is served is of this commit: anything that git here knows as one. */
  commit?: string | undefined;
  /** Record what tags lead to now, though something else was adopted before. */
  anew?: true | undefined;
  reason?: string | undefined;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/**
 * Records what the tags of environments lead to now as what these environments serve. Reads registries, and writes nothing to them.
 *
 * @throws {@link HodError} `nothing-to-adopt`, `origin-unknown`, `served-already`
 */
export async function adopt(options: AdoptOptions): Promise<AdoptResult> {
  return withProduct(options, async (config, session) => {
    const { product, folder, components: all } = config;
    const environments = environmentsNamed(config, options.environments);
    const components = chosenComponents(config, options.only ?? []).map(({ name }) => name);
    const version = options.version === undefined ? undefined : parseVersion(options.version);
    const commit = options.commit === undefined ? undefined : await commitGiven(folder, options.commit);
    const anew = options.anew === true;
    const reason = anew ? needReason(options.reason, '--anew') : (options.reason?.trim() ?? '');
    const dryRun = options.dryRun === true;
    noteUnshared(config, session);
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
      const history = await readHistory(folder);
      const followed = await followedBranches(config, history);
      const scope = { config, session, history, followed, environments, components, version };
      const begun = (await ledger.read([])).head.seq;
      const shown = await readShown(scope);
      refuseNothing(shown, environments);
      const found = await identifyServed(shown.contents, { version, commit }, scope);
      const lists = all.map(({ name }) => name);
      const adoption = { product, environments: found.environments, lists, reason, anew };
      const { observer } = session;
      const context = { ledger, orders: commitOrders(folder), observer, actor: await actor(), product, dryRun, begun };
      const verdict = await recordAdoption(adoption, context);
      const left = [...shown.left, ...found.left];
      const requests = environments
        .flatMap((each) => components.map((name) => session.client(each.repositoryOf(name))))
        .filter((client, at, clients) => clients.indexOf(client) === at)
        .reduce((sum, client) => sum + client.requests, 0);
      const result = toAdoptResult({ product, dryRun, requests }, { found, verdict, absent: shown.absent, left });
      const isNew = verdict.actions.length > 0 && !dryRun;
      return { ...result, next: isNew ? stepsAfterAdoption(config, options.config, environments) : [] };
    });
  });
}

/** The environments that are named, in the order in which releases pass through them. */
function environmentsNamed(config: Config, names: readonly string[]): EnvironmentConfig[] {
  const named = names.map((name) => environmentNamed(config, name));
  return config.environments.filter((each) => named.includes(each));
}

function refuseNothing({ contents, absent }: ShownContents, environments: readonly EnvironmentConfig[]): void {
  const empty = environments.filter(({ name }) => !contents.some(({ environment }) => environment.name === name));
  if (empty.length > 0) {
    const names = empty.map(({ name }) => name);
    const last = empty.at(-1);
    const filling = last?.after === undefined ? 'hod publish' : `hod promote ${last.name}`;
    throw new HodError('nothing-to-adopt', {
      what: 'there is nothing to adopt',
      object: names,
      why: absent
        .filter(({ environment }) => names.includes(environment))
        .map(({ component, why }) => `${component}: ${why}`),
      next: `correct \`repository\` or \`tags\` of ${names.join(', ')} in hod.yaml; leave an empty environment out: \`${filling}\` fills it`,
    });
  }
}
