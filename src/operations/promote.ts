import { HodError } from '../core/errors';
import { readContent } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import type { FactKey, Facts, Release } from '../core/release/facts';
import { describePosition } from '../core/tags/ordering';
import { wantedTags } from '../core/tags/rules';
import { parseVersion } from '../core/tags/version';
import type { Ledger } from '../ledger/ledger';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';
import { readGit } from '../workspace/git';
import { deliver, refuseWithoutTags, type DeliveryImage } from './deliver';
import type { PromoteResult } from './results';
import { withLedger, withProduct, type Session, type SessionOptions } from './session';

/** What `promote` is told. */
export interface PromoteOptions extends SessionOptions {
  environment: string;
  /** The release to promote; what the environment before runs, where neither is given. */
  version?: string | undefined;
  commit?: string | undefined;
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
      return promoteRelease(release, step, { config, session, ledger, dryRun });
    });
  });
}

interface PromoteContext {
  config: Config;
  session: Session;
  ledger: Ledger;
  dryRun: boolean;
}

async function promoteRelease(release: Release, step: Step, context: PromoteContext): Promise<PromoteResult> {
  const { config, session, ledger, dryRun } = context;
  const { commit, version, branch } = release;
  const { from, to } = step;
  requireArrived(release, step);
  const date = (await readGit(config.folder, commit))?.date;
  const images: DeliveryImage[] = [];
  for (const { image, digest, mediaType, size, platforms } of release.images) {
    const source = session.client(from.repositoryOf(image));
    images.push({
      image,
      node: await readContent(source, { digest, mediaType, size }),
      platforms,
      target: session.client(to.repositoryOf(image)),
      tags: wantedTags(to.rules, { product: config.product, commit, version, branch, date }, image),
    });
  }
  refuseWithoutTags(images, to.name);
  const delivered = await deliver(
    {
      product: config.product,
      environment: to.name,
      position: { commit, version },
      images,
      release: release.release,
      permit: (now) => requireArrived(now ?? release, step),
      action: (landing) => ({
        kind: 'promoted',
        release: release.release,
        commit,
        version,
        branch,
        environment: to.name,
        from: from.name,
        ...landing,
      }),
    },
    { ledger, folder: config.folder, limit: session.limit, progress: session.observer.transfer, dryRun },
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
      object: config.ledgerFile,
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
    const commit = (await readGit(config.folder, options.commit))?.commit ?? options.commit;
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
