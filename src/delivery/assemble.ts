import { setTimeout as delay } from 'node:timers/promises';
import { HodError } from '../core/errors';
import { assembleIndex, type AssembledIndex } from '../core/oci/assemble';
import { runnableImages, type ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import {
  changeIndex,
  contentOfMembers,
  requirePlatforms,
  type IndexContent,
  type NamedMember,
} from '../core/oci/members';
import { parsePlatform } from '../core/oci/platform';
import type { TagDecision } from '../core/release/tag-decisions';
import type { Tag } from '../core/oci/tag';
import { Carrier, type Transfer } from './carry';
import { decideNamedTag, parseTarget, writeNamedTag } from './fixed-tag';
import { settleAll } from '../system/promises';
import type { RepositoryClient } from '../registry/repository';
import { isHere, locate } from '../session/locate';
import type { Session } from '../session/session';

/** Which index is made, of what. */
export interface Assembly {
  /** The repository to write into, with the tag to write if one is wanted. */
  target: string;
  /** Build outputs or references, `PLATFORM=` before those that must be for one; an index stands for all its images. */
  members: readonly string[];
  /** Further members of the index that `members` names. */
  add?: readonly string[] | undefined;
  /** `PLATFORM=MEMBER`: members in the place of those that the index has. */
  replace?: readonly string[] | undefined;
  /** Platforms whose members are left out. */
  drop?: readonly string[] | undefined;
  /** Platforms that must be there. */
  require?: readonly string[] | undefined;
  /** Make a new index also where one image or index is named, which stays as it is otherwise. */
  index?: true | undefined;
  /** How long to wait for members that are not there yet, in milliseconds. */
  wait?: number | undefined;
}

/** So many tags are looked at for whether they lead to an index that was changed. */
const tagsLookedAt = 500;
/** How often members that are not there are looked for, in milliseconds. */
const lookEvery = 1_000;

/** An index that was changed: what it was, and which other tags lead to that still; `allTags`: all of them were looked at. */
export interface ChangedIndex {
  readonly from: string;
  readonly digest: Digest;
  readonly tags: readonly Tag[];
  readonly allTags: boolean;
}

/** An index that was made, or would be. */
export interface Assembled {
  readonly target: RepositoryClient;
  /** The index; or the one image that was named, as it is. */
  readonly index: AssembledIndex;
  /** The one member that was named is there as it is: nothing was assembled. */
  readonly isKept: boolean;
  /** How many entries it has that are no images. */
  readonly companions: number;
  /** Undefined where none was changed. */
  readonly changed: ChangedIndex | undefined;
  /** Undefined where no tag is named. */
  readonly decision: TagDecision | undefined;
  readonly transfer: Transfer;
}

/**
 * Makes one index of images that were built for different platforms, wherever they are, or changes one. The tag,
 * where one is named, is a fixed one: it is written once and never moved.
 */
export async function assemble(
  assembly: Assembly,
  { session, dryRun }: { readonly session: Session; readonly dryRun: boolean },
): Promise<Assembled> {
  const named = parseTarget(assembly.target);
  const { content, base, only } = await gatherMembers(session, assembly);
  requirePlatforms(content.images, (assembly.require ?? []).map(parsePlatform));
  const assembled = assembleIndex(content.images, {}, content.companions);
  const kept = base === undefined && assembly.index !== true ? only : undefined;
  const index = kept === undefined ? assembled : { ...assembled, node: kept.node };
  const { manifest } = index.node;
  const target = session.client(named.repository);
  const decision = named.tag && (await decideNamedTag(target, named.tag, manifest.digest));
  const transfer = await carryIndex(index.node, target, decision, new Carrier({ dryRun }, session.observer.transfer));
  return {
    target,
    index,
    isKept: kept !== undefined,
    companions: content.companions.length,
    changed: base === undefined ? undefined : await changedFrom(session, base, decision?.tag),
    decision,
    transfer,
  };
}

/** Carries an index, and writes its tag where one is to be created. */
async function carryIndex(
  node: ContentNode,
  target: RepositoryClient,
  decision: TagDecision | undefined,
  carrier: Carrier,
): Promise<Transfer> {
  if (decision?.outcome !== 'created' || carrier.dryRun) {
    return carrier.carry(node, target);
  }
  const transfer = await carrier.carryBelow(node, target);
  await writeNamedTag(node, target, decision, { carrier, transfer });
  return transfer;
}

/** The members that are named, the index that is changed, where one is, and the one member where there is but one. */
async function gatherMembers(
  session: Session,
  assembly: Assembly,
): Promise<{ content: IndexContent; base: NamedMember | undefined; only: NamedMember | undefined }> {
  const { members, add = [], replace = [], drop = [], wait = 0 } = assembly;
  const patience = { session, deadline: performance.now() + wait, waits: wait > 0 };
  const changes = add.length + replace.length + drop.length > 0;
  if (changes && members.length !== 1) {
    throw new HodError('options-conflict', {
      what: 'one index is changed at a time',
      object: members.join(', '),
      why: '--add, --replace and --drop say what becomes of the one index that is named',
      next: 'name one index, and further members with --add',
    });
  }
  const unnamed = replace.find((text) => splitMember(text).platform === undefined);
  if (unnamed !== undefined) {
    throw new HodError('not-a-platform', {
      what: 'this does not say which member is replaced',
      object: `--replace ${unnamed}`,
      why: 'it must name a platform: PLATFORM=MEMBER',
      next: `write --replace linux/arm64=${unnamed}`,
    });
  }
  const read = (texts: readonly string[]): Promise<NamedMember[]> =>
    settleAll(texts.map((text) => readMember(text, patience)));
  const [named, added, replacing] = [await read(members), await read(add), await read(replace)];
  const [base] = named;
  return changes && base !== undefined
    ? {
        content: changeIndex(base, { add: added, replace: replacing, drop: drop.map(parsePlatform) }),
        base,
        only: undefined,
      }
    : { content: contentOfMembers(named), base: undefined, only: named.length === 1 ? base : undefined };
}

interface Waiting {
  readonly session: Session;
  readonly deadline: number;
  readonly waits: boolean;
}

/** `os/arch[/variant]=` before a member. */
const platformPrefix = /^([a-z0-9]+\/[a-z0-9_]+(?:\/[a-z0-9._]+)?)=(.+)$/;

/** Splits `PLATFORM=MEMBER`. A text that names a file or folder here is a member as a whole. */
function splitMember(text: string): { platform: string | undefined; place: string } {
  const [, platform, place = text] = isHere(text) ? [] : (platformPrefix.exec(text) ?? []);
  return { platform, place };
}

/** Reads a member; one that is not there is waited for, as one that is still written. Throws `wait-ended`. */
async function readMember(name: string, { session, deadline, waits }: Waiting): Promise<NamedMember> {
  const { platform, place } = splitMember(name);
  for (let told = false; ;) {
    try {
      const node = await locate(session, place);
      return {
        name,
        platform: platform === undefined ? undefined : parsePlatform(platform),
        node,
        images: await runnableImages(node),
      };
    } catch (error) {
      if (!waits || !(error instanceof HodError) || !isNotYet(error)) {
        throw error;
      }
      if (performance.now() >= deadline) {
        throw new HodError(
          'wait-ended',
          { ...error.problem, what: 'timed out waiting for a member' },
          { cause: error },
        );
      }
      if (!told) {
        session.observer.note(`waiting for ${name}`);
        told = true;
      }
      await delay(lookEvery);
    }
  }
}

/** Whether it may be that somebody is still building or writing it. */
function isNotYet({ fault, code }: HodError): boolean {
  return (
    (fault === 'missing' && code !== 'output-ambiguous') || code === 'archive-corrupt' || code === 'layout-corrupt'
  );
}

/** What an index was, and which other tags lead to it still. */
async function changedFrom(
  session: Session,
  { name, node }: NamedMember,
  written: Tag | undefined,
): Promise<ChangedIndex> {
  const { digest } = node.manifest;
  const { repository } = node.source;
  const tags: Tag[] = [];
  let whole = true;
  if (repository !== undefined) {
    const client = session.client(repository);
    try {
      const known: Tag[] = [];
      for await (const tag of client.tags.list()) {
        if (known.length === tagsLookedAt) {
          whole = false;
          break;
        }
        known.push(tag);
      }
      const leading = await settleAll(known.map((tag) => client.manifests.resolve(tag, digest)));
      tags.push(...known.filter((tag, at) => leading[at] === digest && tag !== written));
    } catch (error) {
      // The index is written already. Without the right to list tags, the answer says that tags are missing from it.
      if (!(error instanceof HodError)) {
        throw error;
      }
      whole = false;
    }
  }
  return { from: name, digest, tags, allTags: whole };
}
