import { HodError } from '../core/errors';
import { dayOf } from '../core/release/build';
import { readContent } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import type { FactKey, Facts, Release } from '../core/release/facts';
import { describePosition } from '../core/tags/ordering';
import { parseVersion } from '../core/tags/version';
import type { Ledger } from '../ledger/ledger';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';
import { History, readGit } from '../workspace/git';
import { deliver } from './deliver';
import { tagsIn, type Delivery, type DeliveryImage, type Plan } from './delivery';
import type { PromoteResult } from './results';
import { actorOf, withLedger, withProduct, type Session, type SessionOptions } from './session';

/** What `promote` is told. */
export interface PromoteOptions extends SessionOptions {
  environment: string;
  /** The release to promote; what the environment before runs, where neither is given. */
  version?: string | undefined;
  commit?: string | undefined;
  actor?: string | undefined;
  strictOrder?: true | undefined;
  dryRun?: true | undefined;
}

/** An environment and the one before it. */
interface Step {
  from: EnvironmentConfig;
  to: EnvironmentConfig;
}

/** Carries a release, the same digests, from the environment before into an environment. */
export async function promote(options: PromoteOptions): Promise<PromoteResult> {
  return withProduct(options, async (config, session) => {
    const step = stepInto(config, options.environment);
    const dryRun = options.dryRun === true;
    return withLedger(config, dryRun ? 'read' : 'write', async (ledger) => {
      const release = await chooseRelease(ledger, config, step, options);
      return promoteRelease(release, step, { config, session, ledger, options });
    });
  });
}

interface PromoteContext {
  config: Config;
  session: Session;
  ledger: Ledger;
  options: PromoteOptions;
}

async function promoteRelease(release: Release, step: Step, context: PromoteContext): Promise<PromoteResult> {
  const { config, session, ledger, options } = context;
  const { commit, version } = release;
  const { from, to } = step;
  requireArrived(release, step);
  const images: DeliveryImage[] = [];
  for (const { image, digest, mediaType, size, platforms } of release.images) {
    const source = session.client(from.repositoryOf(image));
    const node = await readContent(source, { digest, mediaType, size });
    images.push({ image, node, platforms, target: session.client(to.repositoryOf(image)) });
  }
  const git = await readGit(config.folder, commit);
  const dryRun = options.dryRun === true;
  const delivered = await deliver(
    promotion(release, step, images, config.product, 'facts' in git ? dayOf(git.facts.time) : undefined),
    {
      ledger,
      history: new History(config.folder),
      limit: session.limit,
      observer: session.observer,
      actor: actorOf(options.actor),
      dryRun,
      strictOrder: options.strictOrder === true,
    },
  );
  return {
    product: config.product,
    version: version ?? null,
    commit,
    from: from.name,
    to: to.name,
    current: delivered.current,
    dryRun,
    gates: [
      { gate: 'after', outcome: 'met', detail: `${from.name} has had it since ${release.arrived[from.name] ?? ''}` },
    ],
    images: delivered.images.map((image) => {
      const source = session.client(from.repositoryOf(image.image));
      const requests = source.label === image.repository ? 0 : source.requests;
      const transfer = { ...image.transfer, requests: image.transfer.requests + requests };
      return { ...image, sourceRepository: source.label, transfer };
    }),
  };
}

/** The delivery of a release from one environment to the next. */
function promotion(
  chosen: Release,
  step: Step,
  images: readonly DeliveryImage[],
  product: string,
  date: string | undefined,
): Delivery<Plan> {
  const { release, commit, version, branch, build } = chosen;
  const { from, to } = step;
  const tags = tagsIn(to, images, { product, commit, version, branch, build, date, dirty: false });
  return {
    product,
    environment: to.name,
    images,
    needs: [{ kind: 'release', key: release }],
    plan: () => Promise.resolve({ position: { commit, version }, release, tags }),
    permit: (_, facts) => requireArrived(facts.get('release', release) ?? chosen, step),
    action: (_, landing) => ({
      kind: 'promoted',
      release,
      commit,
      version,
      branch,
      build,
      environment: to.name,
      from: from.name,
      ...landing,
    }),
  };
}

function stepInto(config: Config, name: string): Step {
  const to = environmentNamed(config, name);
  if (to.after === undefined) {
    throw new HodError('usage', {
      what: 'nothing can be promoted here',
      object: name,
      why: 'it is the first environment; releases come into it by publishing',
      next: 'run `hod publish`, or name a later environment',
    });
  }
  return { from: environmentNamed(config, to.after), to };
}

async function chooseRelease(ledger: Ledger, config: Config, step: Step, options: PromoteOptions): Promise<Release> {
  const { from, to } = step;
  const id = await chooseReleaseId(ledger, config, step, options);
  const release = (await factsOf(ledger, [{ kind: 'release', key: id }])).get('release', id);
  if (release === undefined) {
    throw new HodError('corrupt', {
      what: 'the ledger contradicts itself',
      object: 'file' in config.ledger ? config.ledger.file : 'the ledger',
      why: `${from.name} runs the release ${id}, which was never published`,
      next: `restore the ledger before promoting to ${to.name}`,
    });
  }
  return release;
}

async function chooseReleaseId(
  ledger: Ledger,
  config: Config,
  { from, to }: Step,
  options: PromoteOptions,
): Promise<Digest> {
  if (options.version !== undefined) {
    const version = parseVersion(options.version);
    const facts = await factsOf(ledger, [{ kind: 'version', key: version }]);
    return facts.get('version', version)?.release ?? refuseUnpublished(`version ${version}`);
  }
  if (options.commit !== undefined) {
    const git = await readGit(config.folder, options.commit);
    const commit = 'facts' in git ? git.facts.commit : options.commit;
    const facts = await factsOf(ledger, [{ kind: 'commit', key: commit }]);
    return facts.get('commit', commit)?.release ?? refuseUnpublished(`commit ${commit}`);
  }
  const facts = await factsOf(ledger, [{ kind: 'environment', key: from.name }]);
  const running = Object.values(facts.get('environment', from.name) ?? {});
  const releases = [...new Set(running.map(({ release }) => release))];
  const [only] = releases;
  if (only === undefined) {
    throw new HodError('refused', {
      what: 'there is no release to promote',
      object: to.name,
      why: `releases come to ${to.name} from ${from.name}, and ${from.name} has none yet`,
      next: from.after === undefined ? 'run `hod publish` first' : `run \`hod promote ${from.name}\` first`,
    });
  }
  if (releases.length > 1) {
    throw new HodError('refused', {
      what: 'it is not clear which release to promote',
      object: to.name,
      why: `the images in ${from.name} come from ${releases.length} releases: ${running.map(describePosition).join(', ')}`,
      next: 'name one with --version or --commit',
    });
  }
  return only;
}

function refuseUnpublished(what: string): never {
  throw new HodError('refused', {
    what: 'this was never published',
    object: what,
    why: 'the ledger has no release of it',
    next: 'publish it first; `hod status` shows what runs where',
  });
}

function requireArrived(release: Release, { from, to }: Step): void {
  if (release.arrived[from.name] === undefined) {
    const where = Object.keys(release.arrived).join(', ');
    throw new HodError('refused', {
      what: `this release has not been in ${from.name}`,
      object: `${describePosition(release)} to ${to.name}`,
      why: `${to.name} takes only what ${from.name} has had; so far it was in ${where}`,
      next: `run \`hod promote ${from.name} --${release.version === undefined ? `commit ${release.commit}` : `version ${release.version}`}\` first`,
    });
  }
}

async function factsOf(ledger: Ledger, keys: readonly FactKey[]): Promise<Facts> {
  return (await ledger.read(keys)).facts;
}
