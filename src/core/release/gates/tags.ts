import type { WantedTags } from '../../tags/rules';
import { tagKey } from '../../ledger/facts';
import type { ComponentArrival } from '../component-arrival';
import type { TagDecision } from '../tag-decisions';
import type { Gate } from './gate';

/** No fixed tag is overwritten with another digest. */
export function fixedTags(decisions: readonly TagDecision[]): Gate {
  const gate = 'fixed-tags';
  const refused = decisions.filter(({ outcome }) => outcome === 'refused');
  if (refused.length === 0) {
    return { gate, outcome: 'met', detail: 'no fixed tag would change' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'fixed-tag-taken',
    what:
      refused.length === 1
        ? 'a fixed tag already points to another digest'
        : 'fixed tags already point to other digests',
    object: refused.map(({ repository, tag }) => tagKey(repository, tag)),
    detail: refused.flatMap(({ component, tag, digest, reason }) => [
      `${component}:${tag} ${reason}`,
      `  this build is ${digest}`,
    ]),
    remedy:
      'a fixed tag is never overwritten: publish this build from a new commit, or with a new version; nothing was changed',
  };
}

/** With --strict-order: neither a tag nor the version is held by the order of builds. */
export function inOrder(decisions: readonly TagDecision[], heldVersion: string | undefined): Gate {
  const gate = 'in-order';
  const held = decisions.filter(({ heldBy }) => heldBy === 'order');
  const version = heldVersion === undefined ? [] : [heldVersion];
  if (held.length === 0 && version.length === 0) {
    return { gate, outcome: 'met', detail: 'no newer release is there' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'held-by-order',
    what: 'a newer release is there already',
    object: [...version.map(() => 'its version'), ...held.map(({ repository, tag }) => tagKey(repository, tag))],
    detail: [...new Set([...version, ...held.map(({ reason }) => reason)])],
    remedy: 'nothing was changed; without --strict-order everything else is published, and these are held',
  };
}

/** Every component gets a tag, unless its version was held: then there may be nothing to tag. */
export function someTag(
  environment: string,
  tags: ReadonlyMap<string, WantedTags>,
  { versionHeld }: { readonly versionHeld: boolean },
): Gate {
  const gate = 'some-tag';
  const bare = [...tags].filter(([, { wanted }]) => wanted.every(({ image }) => image !== undefined));
  if (versionHeld || bare.length === 0) {
    return { gate, outcome: 'met', detail: 'a rule gives a tag for each component' };
  }
  const missing = [...new Set(bare.flatMap(([, { omitted }]) => omitted.map((each) => each.missing)))].join(', ');
  const option = missing.includes('branch') ? '--branch' : '--version';
  return {
    gate,
    outcome: 'unmet',
    code: 'nothing-to-tag',
    what: 'no tag would be written',
    object: bare.map(([component]) => `${component} in ${environment}`),
    detail:
      missing === ''
        ? 'every tag rule has {platform}: no tag leads to the whole image'
        : `every tag rule needs something that is not there: ${missing}`,
    remedy: missing.includes('working copy')
      ? 'commit the changes and build again, or add a moving tag to hod.yaml'
      : `give it (${option}), or add a rule such as "c-{commit:12}" to hod.yaml`,
  };
}

/**
 * A tag leads to each component that takes over. Rules can ask for tags that follow releases only, which a build without a
 * version never moves: it would be served, and nobody could pull it by a name.
 */
export function tagLeadsThere(
  environment: string,
  decisions: readonly TagDecision[],
  arrivals: readonly ComponentArrival[],
): Gate {
  const gate = 'some-tag';
  const stranded = arrivals
    .filter(({ way }) => way === 'takes-over')
    .map(({ component }) => ({
      component,
      own: decisions.filter((each) => each.component === component && each.platform === undefined),
    }))
    .filter(({ own }) => own.length > 0 && own.every(({ heldBy }) => heldBy === 'kind'));
  if (stranded.length === 0) {
    return { gate, outcome: 'met', detail: 'a tag leads to each component' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'nothing-to-tag',
    what: 'no tag would lead to this release',
    object: stranded.map(({ component }) => `${component} in ${environment}`),
    detail: [...new Set(stranded.flatMap(({ own }) => own.map(({ tag, reason }) => `${tag} stays: ${reason}`)))],
    remedy: `let hod.yaml ask for a tag of such builds in ${environment}: fixed: ["c-{commit:12}"], or moving: [${environment}, { tag: latest, follows: environment }]`,
  };
}
