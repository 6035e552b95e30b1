import { refuseNobody, withAnnouncing } from '../announcing/announce';
import { baseFacts, movedBases } from '../core/insight/moved-bases';
import { appendDeciding } from '../delivery/record';
import { HodError } from '../core/errors';
import { runningIn, type Running } from '../core/identify/running';
import { identifyMentions, productInView, type IdentifyContext } from '../inspect/identify';
import { brief, readStatus, type StatusQuestion } from '../inspect/status';
import { toStatusResult, type StatusResult } from '../results/status';
import { readGrowth } from '../inspect/growth';
import type { RepositoryGrowth } from '../core/tidy/growth';
import { actorOf } from '../session/actor';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { environmentNamed, type Config } from '../workspace/config';
import { readMentions, type GivenMentions } from './given-mentions';

/** What `status` is told. */
export interface StatusOptions extends SessionOptions, StatusQuestion {
  /** What is said to run, by environment: references and digests from texts. */
  running?: readonly RunningText[] | undefined;
  /** Tell how much repositories hold, and why. */
  growth?: true | undefined;
  /** Tell receivers of bases that moved, each movement once. */
  announce?: true | undefined;
}

/** What is said to run in an environment. */
export interface RunningText extends GivenMentions {
  readonly environment: string;
}

/** What each environment serves by the ledger, what waits to come in, and whether the registries still agree. */
export async function status(options: StatusOptions): Promise<StatusResult> {
  return withProduct({ patience: brief, ...options }, (config, session) =>
    options.announce === true
      ? announcingBases(options, config, session)
      : withLedger(config, session, 'read', async (ledger) =>
          toStatusResult(
            await readStatus(options, { config, session, ledger }),
            await readRunning(options.running ?? [], { config, session, ledger }),
            options.growth === true ? await growthFor(options, { config, session, ledger }) : undefined,
          ),
        ),
  );
}

/** The same, and bases that moved are recorded, where the ledger does not know of it, so that receivers are told. */
async function announcingBases(options: StatusOptions, config: Config, session: Session): Promise<StatusResult> {
  refuseNobody(config);
  const { product } = config;
  const actor = () => actorOf(undefined, config, session);
  return withAnnouncing(config, session, { actor, dryRun: false }, async (ledger) => {
    await refuseEmpty(config, ledger);
    const found = await readStatus(options, { config, session, ledger });
    const bases = found.bases ?? [];
    const context = { ledger, product, actor: await actor(), observer: session.observer };
    await appendDeciding(context, async () => {
      const { head, facts } = await ledger.read(baseFacts(bases));
      return { head, facts, actions: movedBases(bases, facts), value: undefined };
    });
    return toStatusResult(found, []);
  });
}

/** How much the repositories of the environments that are shown hold. */
async function growthFor(
  { environments }: Pick<StatusOptions, 'environments'>,
  context: Parameters<typeof readGrowth>[1],
): Promise<RepositoryGrowth[]> {
  const names = environments.length === 0 ? context.config.environments.map(({ name }) => name) : environments;
  return readGrowth(names, context, { ask: true });
}

/** Finds out what is said to run. */
async function readRunning(
  running: readonly RunningText[],
  { session, ...read }: Pick<IdentifyContext, 'config' | 'ledger'> & { readonly session: Session },
): Promise<Running[]> {
  const found: Running[] = [];
  const context = { ...read, inView: await productInView(read) };
  for (const { environment, mentions, overflowed } of running) {
    if (overflowed) {
      session.observer.note(`the text about ${environment} names more than is looked up: the rest is left out`);
    }
    const { name } = environmentNamed(context.config, environment);
    found.push(runningIn(name, await identifyMentions(mentions, context)));
  }
  return found;
}

/**
 * Reads the texts that say what runs: `ENV=FILE`, or a file alone where one environment is named; `-` is standard input.
 *
 * @throws {@link HodError} `environment-unknown`, `file-unusable`
 */
export async function readRunningTexts(
  texts: readonly string[],
  environments: readonly string[],
): Promise<RunningText[]> {
  const read: RunningText[] = [];
  for (const text of texts) {
    const [, named, path = text] = /^([^=/]+)=(.+)$/.exec(text) ?? [];
    const environment = named ?? (environments.length === 1 ? environments[0] : undefined);
    if (environment === undefined) {
      throw new HodError('environment-unknown', {
        what: '--running needs an environment',
        object: `--running ${text}`,
        why: 'a text says what runs in one environment',
        next: `name it: \`--running ENV=${text}\``,
      });
    }
    if (environments.length > 0 && !environments.includes(environment)) {
      throw new HodError('environment-unknown', {
        what: 'what runs there would not be shown',
        object: `--running ${text}`,
        why: `this status is of ${environments.join(', ')} alone`,
        next: `name ${environment} among the environments, or name none`,
      });
    }
    read.push({ environment, ...(await readMentions([path])) });
  }
  return read;
}
