import type { CountedMention } from '../core/identify/mentions';
import { nameAsked, readAsked } from '../inspect/asked';
import { identifyCommit } from '../inspect/commit-reach';
import { commitsBehind, identifyMentions, productInView } from '../inspect/identify';
import { identifyByRecords } from '../inspect/identify-records';
import { identifyWithin } from '../inspect/identify-within';
import { brief } from '../inspect/status';
import {
  isOwn,
  toIdentifyResult,
  toRecordedResult,
  type FoundInProduct,
  type IdentifyAnswer,
  type IdentifyResult,
} from '../results/identify';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { configIfAny, withoutProduct, withProduct, type SessionOptions } from '../session/session';
import { environmentNamed } from '../workspace/config';
import { readMentions } from './given-mentions';
import { configsNamed } from './products';

/** What `identify` is told. */
export interface IdentifyOptions extends SessionOptions {
  /** Digests, references, commits, tags, versions, and texts: files, or `-`. Where none is named, what is checked out. */
  readonly what: readonly string[];
  /** The environment that everything is to be served by. */
  readonly environment?: string | undefined;
}

/** Which release things are, and where they are served: for one product, or for all that the configuration matches. */
export async function identify({ what, environment, ...options }: IdentifyOptions): Promise<IdentifyResult> {
  const asked = await Promise.all((what.length === 0 ? ['HEAD'] : what).map(readAsked));
  const isWithoutProduct = options.config === undefined && (await configIfAny(options)) === undefined;
  const references = asked.flatMap((each) =>
    each.kind === 'mention' && each.mention.repository ? [each.mention] : [],
  );
  if (isWithoutProduct && references.length === asked.length && environment === undefined) {
    // Only what a person names is asked for at registries: a text may name any host.
    return withoutProduct(options, async (session) =>
      toRecordedResult(await Promise.all(references.map((each) => identifyByRecords(each, session)))),
    );
  }
  const texts = asked.flatMap((each) => (each.kind === 'text' ? [each.path] : []));
  const { mentions: given, overflowed } = await readMentions(texts);
  const named = asked.flatMap((each) => (each.kind === 'mention' ? [{ mention: each.mention, times: 1 }] : []));
  const mentions = [...named, ...given];
  const names = asked.flatMap((each) => (each.kind === 'name' ? [each.text] : []));
  const configs = options.config === undefined ? undefined : await configsNamed(options.config);
  const answers = [];
  for (const config of configs ?? [options.config]) {
    answers.push(await identifyIn({ mentions, names, environment }, { ...options, config }));
  }
  return toIdentifyResult({
    ...{ environment, overflowed },
    products: answers.map(({ product }) => product),
    found: merged(answers.map(({ found }) => found)),
    commits: answers.flatMap(({ commits }) => commits),
    looked: answers.flatMap(({ looked }) => looked),
  });
}

interface Question {
  readonly mentions: readonly CountedMention[];
  readonly names: readonly string[];
  readonly environment: string | undefined;
}

/** The same of one product. */
function identifyIn(
  { mentions, names, environment }: Question,
  options: SessionOptions,
): Promise<Pick<IdentifyAnswer, 'found' | 'commits' | 'looked'> & { readonly product: string }> {
  return withProduct({ patience: brief, ...options }, async (config, session) => {
    const { product, folder } = config;
    if (environment !== undefined) {
      environmentNamed(config, environment);
    }
    return withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      const named = await Promise.all(
        names.map(async (text) => ({ text, ...(await nameAsked(text, folder, ledger)) })),
      );
      const digits = named.flatMap(({ commit, digits: text }): CountedMention[] => {
        // What is a commit need be no digest.
        const sureness = commit === undefined ? 'certain' : 'possible';
        return text === undefined ? [] : [{ mention: { text, digits: text, sureness }, times: 1 }];
      });
      const context = { config, session, ledger, inView: await productInView({ config, ledger }) };
      const { found, looked } = await identifyWithin(
        await identifyMentions([...mentions, ...digits], context),
        context,
      );
      const behind = await commitsBehind(found, config);
      const commits = [];
      for (const { text, commit } of named) {
        if (commit !== undefined) {
          commits.push({ text, product, ...(await identifyCommit(commit, context)) });
        }
      }
      const own = found.map((each) => ({ product, found: each, commitsBehind: behind }));
      return { product, found: own, commits, looked: looked === undefined ? [] : [looked] };
    });
  });
}

/** What several products say of the same mentions: a product that knows one goes before those that do not. */
function merged(answers: readonly (readonly FoundInProduct[])[]): FoundInProduct[] {
  const all = new Map<string, FoundInProduct>();
  for (const each of answers.flat()) {
    const { text } = each.found.mention;
    const known = all.get(text);
    if (known === undefined || (!isOwn(known.found) && isOwn(each.found))) {
      all.set(text, each);
    }
  }
  return [...all.values()];
}
