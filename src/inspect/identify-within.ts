import { HodError } from '../core/errors';
import { ContentIndex, imageContents, type ComponentContent, type ContentWithin } from '../core/identify/layers';
import type { FoundMention } from '../core/identify/verdict';
import { decideWithin, type ProductInView } from '../core/identify/whole';
import type { FactKey } from '../core/ledger/facts';
import type { PlacedComponent } from '../core/ledger/release';
import { nodesOf, readContent, runnableImages } from '../core/oci/content';
import { parseRepository } from '../core/oci/reference';
import type { Ledger } from '../ledger/ledger';
import type { Session } from '../session/session';
import { keepContents, knownContents } from '../workspace/known-contents';
import { decideAll, type IdentifyContext } from './identify';
import { isNamed } from './status';
import { readEvents } from './timeline';

/** So many of the latest releases are looked through, beside what environments serve. */
const latestReleases = 50;

/** What registries were asked for: how many components were looked through, and which could not be. */
export interface LookedThrough {
  readonly components: number;
  readonly unread: readonly { readonly object: string; readonly why: string }[];
}

/** What was found, and what was looked through for it; undefined where nothing had to be. */
export interface FoundWithin {
  readonly found: readonly FoundMention[];
  readonly looked: LookedThrough | undefined;
}

/**
 * Finds out whether digests that the ledger does not know are layers or configs: of what environments serve, and of the latest
 * releases, as registries tell. What was read once is not asked for again.
 */
export async function identifyWithin(
  found: readonly FoundMention[],
  context: IdentifyContext & { readonly session: Session },
): Promise<FoundWithin> {
  if (!found.some(isDigestAlone)) {
    return { found, looked: undefined };
  }
  const { ledger, inView } = context;
  const { contents, looked } = await readContents(await componentsToRead(inView, ledger), context);
  const index = new ContentIndex(contents);
  const texts = new Map<string, readonly ContentWithin[]>();
  for (const { mention } of found.filter(isDigestAlone)) {
    const within = index.find(mention.digest ?? mention.digits ?? '');
    if (within.length > 0) {
      texts.set(mention.text, within);
    }
  }
  const decided = await decideAll([...texts.keys()], ledger, (text, known) =>
    decideWithin(texts.get(text) ?? [], inView, known),
  );
  const all = found.map((each) => {
    const within = decided.get(each.mention.text);
    return within === undefined ? each : { ...each, ...within };
  });
  return { found: all, looked };
}

/** Whether something is a digest that the ledger does not know; a reference names a manifest, and no layer. */
function isDigestAlone({ identified, mention: { repository, digest, digits } }: FoundMention): boolean {
  return identified.kind === 'unknown' && repository === undefined && (digest ?? digits) !== undefined;
}

/** What environments serve, by their own tags and on lines, and what the latest releases hold; each digest once. */
async function componentsToRead({ environments }: ProductInView, ledger: Ledger): Promise<PlacedComponent[]> {
  const filter = { kind: 'published' as const };
  const { events } = await readEvents(ledger, filter, latestReleases);
  const ids = [...new Set(events.flatMap(({ releases }) => releases))];
  const { facts } = await ledger.read(ids.map((key): FactKey => ({ kind: 'release', key })));
  const all = [
    ...environments.flatMap(({ served, lines }) => [
      ...served.flatMap(([now]) => now ?? []),
      ...lines.map(({ head }) => head),
    ]),
    ...ids.flatMap((id) => facts.get('release', id)?.components ?? []),
  ];
  return [...new Map(all.map((each) => [contentKey(each), each])).values()];
}

/** Reads the manifests and configs of components from their registries, those that no earlier run read. */
async function readContents(
  components: readonly PlacedComponent[],
  { config, session }: IdentifyContext & { readonly session: Session },
): Promise<{ readonly contents: readonly ComponentContent[]; readonly looked: LookedThrough }> {
  const { stateFolder, environments } = config;
  const known = new Map((await knownContents(stateFolder)).map((each) => [contentKey(each), each]));
  const unread: LookedThrough['unread'][number][] = [];
  const contents = await Promise.all(
    components.map(async (component): Promise<ComponentContent[]> => {
      const content = known.get(contentKey(component));
      if (content !== undefined) {
        return [content];
      }
      const object = `${component.repository}@${component.digest}`;
      // A person who can write to the ledger must not choose the hosts that Hod asks.
      if (!environments.some((environment) => isNamed(component, environment))) {
        unread.push({ object, why: 'hod.yaml does not name this repository; it was not asked' });
        return [];
      }
      try {
        return [await readContentOf(component, session)];
      } catch (error) {
        if (!(error instanceof HodError)) {
          throw error;
        }
        unread.push({ object, why: error.message });
        return [];
      }
    }),
  );
  const read = contents.flat();
  if (read.some((each) => !known.has(contentKey(each)))) {
    await keepContents(stateFolder, read);
  }
  return { contents: read, looked: { components: components.length, unread } };
}

async function readContentOf(of: PlacedComponent, session: Session): Promise<ComponentContent> {
  const node = await readContent(session.client(parseRepository(of.repository)), of);
  const manifests = nodesOf(node).flatMap(({ manifest }) => (manifest.kind === 'image' ? [manifest] : []));
  const images = imageContents(manifests, await runnableImages(node));
  return { component: of.component, digest: of.digest, images };
}

function contentKey({ component, digest }: Pick<ComponentContent, 'component' | 'digest'>): string {
  return `${component} ${digest}`;
}
