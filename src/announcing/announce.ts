import { sendEvent, type Receiver } from './send';
import { HodError } from '../core/errors';
import { eventOf } from '../core/ledger/announcements';
import { headAfter, type Head, type Actor } from '../core/ledger/entry';
import type { FactKey } from '../core/ledger/facts';
import type { Ledger } from '../ledger/ledger';
import type { Patience } from '../http/wire';
import { Wires } from '../http/wires';
import { withLedger, type LedgerSession } from '../session/open-ledger';
import type { SecretPlace } from '../workspace/config-schema';
import type { Config, ReceiverConfig } from '../workspace/config';
import { readSecret, type SecretContext } from '../workspace/secrets';
import { appendDeciding } from '../delivery/record';

/** How it went to tell one receiver. */
export interface Told {
  readonly receiver: string;
  readonly delivered: number;
  /** Why it was not told of more; undefined where it knows everything. */
  readonly failed: string | undefined;
  /** The last entry that it knows of, or need not know of. */
  readonly through: Head;
}

/** How long a receiver may take, and how much it is told: a release does not wait for it. */
interface Pace {
  readonly patience: Patience;
  /** Milliseconds for all of it. */
  readonly budget: number;
}

/**
 * A release does not wait for its receivers; `hod announce` delivers the rest.
 * @limit announcements beside other work | ms | the next command delivers the rest
 */
const inPassingBudget = 5_000;
/** Beside other work. */
const inPassing: Pace = { patience: { connect: 2_000, idle: 3_000, whole: 3_000, retry: 0 }, budget: inPassingBudget };
/** Where nothing else is to be done. */
const patiently: Pace = { patience: { connect: 10_000, idle: 30_000, whole: 30_000, retry: 0 }, budget: 600_000 };

/** What a command does, for those who are told that a rule refused it. */
export interface AnnouncedWork {
  readonly command: 'publish' | 'promote' | 'rollback';
  readonly environment: string;
}

/** Who does something, as the ledger keeps it. */
type Doing = LedgerSession;

/**
 * Runs work that writes to the ledger, and then tells receivers what it says since they were told last, whoever wrote it. That a
 * receiver is down is noted, and never changes what becomes of the work.
 */
export async function withAnnouncing<T>(
  config: Config,
  session: Doing,
  { about, actor, dryRun }: { about?: AnnouncedWork; actor: () => Promise<Actor>; dryRun: boolean },
  work: (ledger: Ledger) => Promise<T>,
): Promise<T> {
  return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
    if (dryRun || config.receivers.length === 0) {
      return work(ledger);
    }
    const { head } = await ledger.read([]);
    try {
      return await work(ledger);
    } catch (error) {
      if (about !== undefined && error instanceof HodError && error.fault === 'refused') {
        await quietly(session, () => recordRefusal(error, about, { config, session, ledger, actor }));
      }
      throw error;
    } finally {
      await quietly(session, async () => {
        const told = await announce(config, session, ledger, { start: head, actor: await actor(), pace: inPassing });
        told.forEach(({ receiver, failed }) => {
          if (failed !== undefined) {
            session.observer.note(
              `${receiver} was not told: ${failed}; the next command tries again, or \`hod announce\``,
            );
          }
        });
      });
    }
  });
}

/** Refuses to go on where nobody would be told. Throws `nobody-to-tell`. */
export function refuseNobody({ receivers, file }: Config): void {
  if (receivers.length === 0) {
    throw new HodError('nobody-to-tell', {
      what: 'no receiver is configured',
      object: file,
      why: 'it names no receiver',
      next: 'name one under `announce:`; see docs/announcements.md',
    });
  }
}

/** Tells all receivers everything that they were not told yet. Throws nothing for one that is down. */
export async function announceAll(
  config: Config,
  session: Doing,
  ledger: Ledger,
  actor: Actor,
): Promise<readonly Told[]> {
  const { head } = await ledger.read([]);
  return announce(config, session, ledger, { start: head, actor, pace: patiently });
}

/** So many entries that do not concern a receiver are read again by each command; of more it is kept that they were. */
const passedOver = 100;

/** Work whose failure is noted, and nothing more. */
async function quietly({ observer }: Doing, work: () => Promise<unknown>): Promise<void> {
  try {
    await work();
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    observer.note(`this was not announced: ${error.message}`);
  }
}

/** A refusal changes nothing; where somebody is to be told of it, it is an entry. */
async function recordRefusal(
  { code, problem }: HodError,
  about: AnnouncedWork,
  { config, session, ledger, actor }: { config: Config; session: Doing; ledger: Ledger; actor: () => Promise<Actor> },
): Promise<void> {
  const { secrets, observer } = session;
  const text = (lines: HodError['problem']['why']): string => secrets.redact([lines ?? []].flat().join('; '));
  const action = { kind: 'refused', ...about, code, object: text(problem.object), reason: text(problem.why) } as const;
  const context = { ledger, product: config.product, actor: await actor(), observer };
  await appendDeciding(context, async () => {
    return { ...(await ledger.read([])), actions: [action], value: undefined };
  });
}

/** Tells each receiver, in order, of what it does not know; and the ledger, how far each has come. */
async function announce(
  config: Config,
  session: Doing,
  ledger: Ledger,
  { start, actor, pace }: { start: Head; actor: Actor; pace: Pace },
): Promise<Told[]> {
  const { receivers, product } = config;
  const { observer } = session;
  const wires = new Wires(pace.patience, observer, 1);
  const keys = receivers.map(({ name }): FactKey => ({ kind: 'announced', key: name }));
  const { facts } = await ledger.read(keys);
  try {
    const told = await Promise.all(
      receivers.map((receiver) =>
        // One that is new is told of what comes from now on.
        tell(receiver, facts.get('announced', receiver.name) ?? start, { config, session, ledger, wires, pace }),
      ),
    );
    await appendDeciding({ ledger, product, actor, observer }, async () => {
      const now = await ledger.read(keys);
      const further = told.filter(({ receiver, delivered, through }) => {
        const known = now.facts.get('announced', receiver);
        // What does not concern a receiver is passed over for good once it is much, so that nobody reads it again and again.
        return known === undefined || through.seq - known.seq > (delivered > 0 ? 0 : passedOver);
      });
      const action = {
        kind: 'announced' as const,
        receivers: further.map(({ receiver, through }) => ({ receiver, ...through })),
      };
      return { ...now, actions: further.length === 0 ? [] : [action], value: undefined };
    });
    return told;
  } finally {
    await wires.close();
  }
}

interface TellContext {
  readonly config: Config;
  readonly session: Doing;
  readonly ledger: Ledger;
  readonly wires: Wires;
  readonly pace: Pace;
}

async function tell(receiver: ReceiverConfig, from: Head, context: TellContext): Promise<Told> {
  const { config, session, ledger, wires, pace } = context;
  const { name } = receiver;
  const begun = performance.now();
  let [through, delivered] = [from, 0];
  try {
    const ready = await readReceiver(receiver, { folder: config.folder, secrets: session.secrets });
    for await (const sealed of ledger.entries(from)) {
      const event = eventOf(sealed, receiver.kinds);
      if (performance.now() - begun > pace.budget) {
        return { receiver: name, delivered, through, failed: 'there is more than it takes in so short a time' };
      }
      if (event !== undefined) {
        const failed = await sendEvent(event, ready, wires);
        if (failed !== undefined) {
          return { receiver: name, delivered, through, failed };
        }
        delivered += 1;
      }
      through = headAfter(sealed);
    }
    return { receiver: name, delivered, through, failed: undefined };
  } catch (error) {
    if (error instanceof HodError) {
      return { receiver: name, delivered, through, failed: error.message };
    }
    throw error;
  }
}

/** Reads the secrets of a receiver. Throws `credential-missing`, also where what should be its address is none. */
async function readReceiver({ name, url, key, body }: ReceiverConfig, context: SecretContext): Promise<Receiver> {
  return {
    name,
    url: url instanceof URL ? url : await readAddress(url, name, context),
    key: key && (await readSecret(key, `announcements to ${name}`, context)),
    body,
  };
}

/** Reads an address that is a secret. What follows its host is never shown. */
async function readAddress(place: SecretPlace, name: string, context: SecretContext): Promise<URL> {
  const purpose = `the address of ${name}`;
  const text = await readSecret(place, purpose, context);
  const url = URL.canParse(text) ? new URL(text) : undefined;
  if (url !== undefined && ['http:', 'https:'].includes(url.protocol)) {
    const path = url.pathname.slice(1) + url.search;
    if (path !== '') {
      context.secrets.keep(path, purpose);
    }
    return url;
  }
  throw new HodError('credential-missing', {
    what: 'the receiver has no address',
    object: name,
    why: 'what hod.yaml takes it from holds no address, https://…',
    next: 'write the whole address there',
  });
}
