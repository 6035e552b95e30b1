import type { RepositoryName } from '../oci/reference';
import { kindByForm } from '../tags/listing';
import { isTag } from '../oci/tag';
import type { Change, Found, Obstacle, Range, Spot, Target, Unpointed } from './parts';
import { isOther, pathsOf, splitReference, unclearIn } from './lookalikes';

/** A deployment file, pointed. */
export interface Pointed {
  readonly text: string;
  readonly changes: readonly Change[];
  readonly left: readonly Unpointed[];
  /** References that lead where they should. */
  readonly right: number;
  /** What looks like an image of the product, and was not understood: it is neither pointed nor checked. */
  readonly unclear: readonly Unpointed[];
  /** References to components that the environment served once, and that the product has no more. */
  readonly retired: readonly Unpointed[];
  /** Images that are none of the product's. */
  readonly others: number;
  /** Where the text is another, in the text as it was. */
  readonly edits: readonly Range[];
}

interface Edit extends Range {
  readonly text: string;
}

const tagHere = /^:([A-Za-z0-9_][A-Za-z0-9_.-]{0,127})/;
const digestHere = /^@((?:sha256:[a-f0-9]{64}|sha512:[a-f0-9]{128})(?![a-f0-9]))/;

/**
 * Points every reference to a repository of the product at the digest that is served, and leaves every other character as it
 * is. A reference that leads there already is not touched at all.
 */
export function point(
  text: string,
  { spots, obstacles }: { readonly spots: readonly Spot[]; readonly obstacles: readonly Obstacle[] },
  targets: readonly Target[],
): Pointed {
  const lineAt = lineFinder(text);
  const current = targets.filter(({ retired: why }) => why === undefined);
  const [paths, allPaths] = [pathsOf(current), pathsOf(targets)];
  const edits: Edit[] = [];
  const changes: Change[] = [];
  const unclear: Unpointed[] = [];
  const told: Record<'left' | 'retired', Unpointed[]> = { left: [], retired: [] };
  let right = 0;
  for (const spot of spots) {
    const apart = splitReference(text, spot, targets);
    const found = apart === undefined ? referencesIn(text, spot, targets) : [apart];
    const vague = unclearIn(text, spot, found, { paths, targets: current });
    unclear.push(...vague.map(({ start, ...each }) => ({ ...each, line: lineAt(start) })));
    found.forEach((named, at) => {
      const endsSpot = at === found.length - 1 && named.end === spot.end;
      const each = meant(named, text, endsSpot ? spot : undefined);
      const outcome = pointOne(text, spot, each, endsSpot);
      if (outcome.kind === 'right') {
        right += 1;
      } else if (outcome.kind !== 'changed') {
        const { kind, object, why } = outcome;
        told[kind].push({ component: each.target.component, line: lineAt(each.start), object, why });
      } else {
        edits.push(...outcome.edits);
        changes.push({
          component: each.target.component,
          lines: linesOf(outcome.edits, lineAt),
          from: outcome.from,
          to: outcome.to,
          reason: each.target.repository === each.target.serves?.repository ? 'stale' : 'other-environment',
        });
      }
    });
  }
  told.left.push(...obstacles.flatMap((obstacle) => unpointedIn(obstacle, current, lineAt)));
  return {
    ...{ text: edited(text, edits), changes, edits, right, unclear },
    others: spots.filter((spot) => isOther(text, spot, allPaths)).length,
    left: uniqueLeft(told.left),
    retired: uniqueLeft(told.retired),
  };
}

function linesOf(edits: readonly Edit[], lineAt: (at: number) => number): [number, ...number[]] {
  const [first = 1, ...more] = [...new Set(edits.map(({ start }) => lineAt(start)))].sort((a, b) => a - b);
  return [first, ...more];
}

/** What a value names, of which its text does not say it so. */
function unpointedIn(
  { start, value, insteadOf = '', bareOnly, why }: Obstacle,
  targets: readonly Target[],
  lineAt: (at: number) => number,
): Unpointed[] {
  const textOf = (text: string): string[] =>
    referencesIn(text, { start: 0, end: text.length }, targets).map((each) => text.slice(each.start, each.end));
  const written = textOf(insteadOf);
  return referencesIn(value, { start: 0, end: value.length }, targets).flatMap((each, at) => {
    const object = value.slice(each.start, each.end);
    const isBare = object === value && each.tag === undefined && each.digest === undefined;
    const matters = written[at] !== object && (isBare || bareOnly !== true);
    return matters ? [{ component: each.target.component, line: lineAt(start), object, why }] : [];
  });
}

function uniqueLeft(left: readonly Unpointed[]): Unpointed[] {
  return [...new Map(left.map((each) => [JSON.stringify(each), each])).values()];
}

/** Every reference to a repository of the product in a part of a text. */
export function referencesIn(text: string, { start, end }: Range, targets: readonly Target[]): Found[] {
  const part = text.slice(start, end);
  const found: Found[] = [];
  for (const target of targets) {
    for (let at = part.indexOf(target.repository); at >= 0; at = part.indexOf(target.repository, at + 1)) {
      const after = at + target.repository.length;
      // It is a whole name, and not the end or the beginning of another one.
      if (
        /(?:^|[^A-Za-z0-9._/@-]|\/\/|:-)$/.test(part.slice(Math.max(0, at - 2), at)) &&
        !/^(?:[._-]*[a-zA-Z0-9]|\/)/.test(part.slice(after, after + 8))
      ) {
        const tag = tagHere.exec(part.slice(after, after + 130))?.[1]?.replace(/[.-]+$/, '');
        const behind = after + (tag === undefined ? 0 : tag.length + 1);
        const digest = digestHere.exec(part.slice(behind, behind + 140))?.[1];
        const length = behind + (digest === undefined ? 0 : digest.length + 1);
        found.push({ target, tag, digest, start: start + at, end: start + length });
      }
    }
  }
  return found.sort((a, b) => a.start - b.start);
}

/**
 * Finds which of the components that share a repository a reference means: by its tag, by the tag or the comment beside it, or by
 * the digest that is served.
 *
 * @param spot Where a tag or a comment stands beside the reference.
 */
function meant(found: Found, text: string, spot: Spot | undefined): Found {
  const { target, tag, digest } = found;
  const beside = spot?.tag === undefined ? spot?.comment?.text?.trim() : text.slice(spot.tag.start, spot.tag.end);
  const named = tag ?? beside?.split('@')[0];
  const all = (target.variants ?? []).filter(
    (each) =>
      (named !== undefined && each.mayHave(named)) || (digest !== undefined && digest === each.target.serves?.digest),
  );
  const [only, ...others] = all;
  return only === undefined || others.length > 0 ? found : { ...found, target: only.target };
}

type Outcome =
  | { readonly kind: 'right' }
  | { readonly kind: 'left' | 'retired'; readonly object: string; readonly why: string }
  | { readonly kind: 'changed'; readonly edits: readonly Edit[]; readonly from: string; readonly to: string };

/** @param endsSpot Nothing follows the reference in its spot: a comment may. */
function pointOne(text: string, spot: Spot, found: Found, endsSpot: boolean): Outcome {
  const { target, tag, digest, start, end } = found;
  const from = text.slice(start, end);
  const { serves, variants } = target;
  if (variants !== undefined) {
    const names = variants.map((each) => each.target.component).join(', ');
    return { kind: 'left', object: from, why: `its repository has ${names}, and its tag does not say which is meant` };
  }
  if (target.retired !== undefined) {
    return { kind: 'retired', object: from, why: target.retired };
  }
  if (serves === undefined) {
    return { kind: 'left', object: from, why: `it serves nothing of ${target.component}` };
  }
  const bare = tag === undefined && digest === undefined;
  if (bare && (spot.tag !== undefined || spot.digest !== undefined)) {
    return pointApart(text, spot, found, serves);
  }
  if (bare && (start !== spot.start || end !== spot.end || !/image/i.test(spot.key ?? ''))) {
    return target.repository === serves.repository
      ? { kind: 'right' }
      : { kind: 'left', object: from, why: 'it names a repository of another environment, without a tag or a digest' };
  }
  if (target.repository === serves.repository && digest === serves.digest) {
    return { kind: 'right' };
  }
  const both = tag !== undefined && digest !== undefined;
  const version = `${both ? `:${serves.name}` : ''}@${serves.digest}`;
  const comment = both || !endsSpot ? [] : commentEdit(spot, serves.name);
  const edits = placeEdits(text, found, { repository: serves.repository, version });
  return { kind: 'changed', edits: [...edits, ...comment], from, to: `${serves.repository}${version}` };
}

/** A repository, and which version of it is meant in values beside it. */
function pointApart(text: string, spot: Spot, found: Found, serves: NonNullable<Target['serves']>): Outcome {
  const { target, start, end } = found;
  const values = [spot.tag, spot.digest].flatMap((range) =>
    range === undefined ? [] : [text.slice(range.start, range.end)],
  );
  const from = [text.slice(start, end), ...values].join(' ');
  const tagged = spot.digest === undefined ? `${serves.name}@${serves.digest}` : serves.name;
  const isNamed = spot.key === 'name' && target.repository !== serves.repository;
  if (isNamed) {
    return {
      kind: 'left',
      object: from,
      why: 'it is called by its name in another environment: add a new name beside it',
    };
  }
  const versions: Edit[] = [];
  for (const [value, put] of [
    [spot.digest, serves.digest],
    [spot.tag, tagged],
  ] as const) {
    if (value !== undefined && value.write === undefined) {
      return {
        kind: 'left',
        object: from,
        why: 'its tag or digest is an alias, or no single line: write it out there',
      };
    }
    if (value?.write !== undefined && text.slice(value.start, value.end) !== put) {
      versions.push({ start: value.start, end: value.end, text: value.write(put) });
    }
  }
  const edits = [
    ...(target.repository === serves.repository
      ? []
      : placeEdits(text, found, { repository: serves.repository, version: '' })),
    ...versions.filter((edit) => text.slice(edit.start, edit.end) !== edit.text),
  ];
  const to = [
    serves.repository,
    ...(spot.tag === undefined ? [] : [tagged]),
    ...(spot.digest === undefined ? [] : [serves.digest]),
  ];
  return edits.length === 0 ? { kind: 'right' } : { kind: 'changed', edits, from, to: to.join(' ') };
}

/** Writes a repository: where its registry stands apart, both values. */
function placeEdits(
  text: string,
  { registry, start, end }: Found,
  { repository, version }: { readonly repository: RepositoryName; readonly version: string },
): Edit[] {
  if (registry === undefined) {
    return [{ start, end, text: `${repository}${version}` }];
  }
  const depth = text.slice(registry.start, registry.end).split('/').length;
  const parts = repository.split('/');
  const [host, path] = [parts.slice(0, depth).join('/'), parts.slice(depth).join('/')];
  const edits = [
    { start: registry.start, end: registry.end, text: registry.write?.(host) ?? host },
    { start, end, text: `${path}${version}` },
  ];
  return edits.filter((edit) => text.slice(edit.start, edit.end) !== edit.text);
}

/** The comment that says which version a digest is: a new one, or in the place of one that says the same of another. */
function commentEdit({ comment }: Spot, name: string): Edit[] {
  if (comment === undefined) {
    return [];
  }
  if (comment.text === undefined) {
    return [{ start: comment.start, end: comment.end, text: ` # ${name}` }];
  }
  const said = comment.text.trim();
  const at = comment.start + comment.text.indexOf(said);
  return isTag(said) && kindByForm(said) === 'fixed' ? [{ start: at, end: at + said.length, text: name }] : [];
}

function edited(text: string, edits: readonly Edit[]): string {
  // Two references may share a value beside them: it is written once.
  const unique = [...new Map(edits.map((edit) => [`${edit.start} ${edit.end}`, edit])).values()];
  let result = '';
  let at = 0;
  for (const { start, end, text: put } of unique.sort((a, b) => a.start - b.start)) {
    result += text.slice(at, start) + put;
    at = end;
  }
  return result + text.slice(at);
}

/** Finds the line, from 1, of a place in a text. */
function lineFinder(text: string): (at: number) => number {
  const starts = [0];
  for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) {
    starts.push(at + 1);
  }
  return (at) => {
    let [low, high] = [0, starts.length];
    while (high - low > 1) {
      const middle = (low + high) >> 1;
      [low, high] = (starts[middle] ?? 0) <= at ? [middle, high] : [low, middle];
    }
    return low + 1;
  };
}
