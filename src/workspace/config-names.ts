import { isThisMachine, whyExposed } from '../core/access/destinations';
import { HodError } from '../core/errors';
import { parseOutputPlace } from '../core/build/output-place';
import { alsoSimilar } from '../core/nearest';
import { parsePlatform } from '../core/oci/platform';
import { isRegistry, parseReference, parseRepository } from '../core/oci/reference';
import {
  expandRepository,
  expandTag,
  parseTemplate,
  placeholdersOf,
  TemplateError,
  type Placeholder,
  type Template,
} from '../core/tags/template';
import type { ConfigFinding, Path } from './config-findings';
import { jobOf, type RawConfig } from './config-schema';
import { checkSharing, textsOf } from './config-sharing';

/** Finds what the schema cannot: dangling names, and errors in texts with a grammar of their own. */
export function checkNames(
  raw: Pick<RawConfig, 'product' | 'images' | 'bundles' | 'includes' | 'environments'>,
  environmentNames: readonly string[],
): ConfigFinding[] {
  const findings: ConfigFinding[] = [];
  const check: Check = (path, work) => {
    try {
      work();
    } catch (error) {
      if (!(error instanceof HodError || error instanceof TemplateError)) {
        throw error;
      }
      const text = error.message;
      findings.push({ path, text });
    }
  };
  const { images, bundles = {}, includes = {} } = raw;
  for (const [kind, components] of [
    ['images', images],
    ['includes', includes],
  ] as const) {
    for (const [name, { platforms }] of Object.entries<{ platforms?: string[] | undefined }>(components)) {
      platforms?.forEach((platform, at) => check([kind, name, 'platforms', at], () => parsePlatform(platform)));
    }
  }
  checkOutputPlaces(raw, check);
  for (const [name, { from }] of Object.entries(includes)) {
    check(['includes', name, 'from'], () => checkIncludedReference(from));
  }
  findings.push(...checkOneName(raw));
  const names = [...new Set([images, bundles, includes].flatMap(Object.keys))];
  findings.push(...checkFormerNames(raw, names));
  for (const [name, environment] of Object.entries(raw.environments)) {
    const path = ['environments', name];
    const earlier = environmentNames.slice(0, environmentNames.indexOf(name));
    findings.push(...checkAfter(path, environment.after, earlier));
    check([...path, 'repository'], () => parseRepositories(environment.repository, names, raw.product));
    findings.push(...checkFirstOnly(path, environment, earlier.length === 0));
    checkTags([...path, 'tags'], environment.tags, check);
    findings.push(...checkPlatformTags([...path, 'tags'], environment.tags));
    findings.push(...checkBranchTags(path, environment));
    environment.gates?.platforms?.forEach((platform, at) =>
      check([...path, 'gates', 'platforms', at], () => parsePlatform(platform)),
    );
  }
  findings.push(...checkOwnTags(raw, environmentNames, check));
  return uniqueFindings([...findings, ...checkSharing(raw)]);
}

/** Checks the references of build outputs that are in a registry. */
function checkOutputPlaces({ images, product }: Pick<RawConfig, 'images' | 'product'>, check: Check): void {
  for (const [name, { from }] of Object.entries(images)) {
    [from].flat().forEach((text, at) => {
      const path = typeof from === 'string' ? ['images', name, 'from'] : ['images', name, 'from', at];
      check(path, () => checkOutputPlace(text, name, product));
    });
  }
}

/** Throws where a build output is in a registry, and its reference cannot be read. */
function checkOutputPlace(text: string, component: string, product: string): void {
  const place = parseOutputPlace(text, () => false);
  if (place.kind === 'reference') {
    parseRepository(expandRepository(place.repository, component, product));
  }
}

/** Throws where an inclusion names no content: a repository alone. */
function checkIncludedReference(text: string | undefined): void {
  const reference = text === undefined ? undefined : parseReference(text);
  if (reference !== undefined && reference.tag === undefined && reference.digest === undefined) {
    throw new TemplateError(
      'from',
      `${text ?? ''} names a repository; which content is meant must be said: a tag, or a digest`,
    );
  }
}

/** Finds names that components of two kinds have. */
function checkOneName({ images, bundles = {}, includes = {} }: Components): ConfigFinding[] {
  const taken = (kind: 'bundles' | 'includes', names: object, others: object, text: string): ConfigFinding[] =>
    Object.keys(names)
      .filter((each) => Object.hasOwn(others, each))
      .map((name) => ({ path: [kind, name], atKey: true, text: `${text} is called ${name} too` }));
  return [
    ...taken('bundles', bundles, images, 'an image'),
    ...taken('includes', includes, images, 'an image'),
    ...taken('includes', includes, bundles, 'a bundle'),
  ];
}

type Components = Pick<RawConfig, 'images' | 'bundles' | 'includes'>;

/** Finds former names that a component has now, or that two say they had. */
function checkFormerNames(raw: Components, names: readonly string[]): ConfigFinding[] {
  const seen = new Set<string>();
  const all = (
    [
      ['images', raw.images],
      ['bundles', raw.bundles ?? {}],
      ['includes', raw.includes ?? {}],
    ] as const
  ).flatMap(([kind, components]) =>
    Object.entries<{ was?: string | string[] | undefined }>(components).flatMap(([name, { was = [] }]) =>
      [was].flat().map((former) => ({ path: [kind, name, 'was'], former })),
    ),
  );
  return all.flatMap(({ path, former }) => {
    const isTaken = seen.has(former);
    seen.add(former);
    return names.includes(former)
      ? [{ path, text: `${former} is a component still; take it out, or name what this one was called before` }]
      : isTaken
        ? [{ path, text: `another component says that it was ${former} too` }]
        : [];
  });
}

/** Throws where the repository of a component is none. */
function parseRepositories(template: string, names: readonly string[], product: string): void {
  names.forEach((component) => parseRepository(expandRepository(template, component, product)));
}

/** The tags that components have of their own. */
function checkOwnTags(
  raw: Pick<RawConfig, 'images' | 'bundles'>,
  environmentNames: readonly string[],
  check: Check,
): ConfigFinding[] {
  const findings: ConfigFinding[] = [];
  for (const [kind, components] of [
    ['images', raw.images],
    ['bundles', raw.bundles ?? {}],
  ] as const) {
    for (const [name, { tags = {} }] of Object.entries<{ tags?: Record<string, TagRules> | undefined }>(components)) {
      for (const [environment, rules] of Object.entries(tags)) {
        const path = [kind, name, 'tags', environment];
        if (!environmentNames.includes(environment)) {
          const text = `there is no environment ${environment}${alsoSimilar(environment, environmentNames)}`;
          findings.push({ path, atKey: true, text });
        }
        checkTags(path, rules, check);
      }
    }
  }
  return findings;
}

type TagRules = RawConfig['environments'][string]['tags'];

type Check = (path: Path, work: () => void) => void;

function checkTags(path: Path, rules: TagRules, check: Check): void {
  rules.fixed?.forEach((text, at) =>
    check([...path, 'fixed', at], () => {
      if (!tellsBuildsApart(parseTemplate(text))) {
        throw new TemplateError(
          text,
          `${text}: a fixed tag is written once, and the next build has this one too; put it under moving, or {commit} into it`,
        );
      }
    }),
  );
  rules.moving?.forEach(({ tag, follows }, at) =>
    check([...path, 'moving', at], () => {
      const names = placeholdersOf(parseTemplate(tag));
      const own = names.find((name) => name === 'branch' || (follows === 'environment' && ofVersions.includes(name)));
      if (follows !== undefined && own !== undefined) {
        throw new TemplateError(
          own,
          `${tag}: a tag with {${own}} follows ${own === 'branch' ? 'that branch' : 'releases'}; leave \`follows:\` out`,
        );
      }
    }),
  );
}

/** Tags of platforms stand beside a tag that leads to all of an index: it is what is promoted. */
function checkPlatformTags(path: Path, rules: TagRules): ConfigFinding[] {
  const all = textsOf(rules);
  return all.length > 0 && all.every((text) => text.includes('{platform}'))
    ? [{ path, text: 'every rule has {platform}; add one without it, for the tag of the whole image' }]
    : [];
}

/** Placeholders that only a version fills. */
const ofVersions: readonly Placeholder[] = ['version', 'major', 'minor', 'patch'];

/** Whether two builds have two tags by a rule, at least as a rule. */
function tellsBuildsApart(template: Template): boolean {
  const telling: readonly Placeholder[] = ['commit', 'digest', 'version', 'patch', 'build', 'date'];
  return placeholdersOf(template).some((name) => telling.includes(name));
}

/** Branches that are followed by name, whose tag another branch or rule has too. */
function checkBranchTags(path: Path, { follows = [], tags }: RawConfig['environments'][string]): ConfigFinding[] {
  const named = follows.filter((branch) => !/[*?[\]{}!]/.test(branch));
  const templates = (tags.moving ?? []).map(({ tag }) => tag);
  const taken = new Map(templates.filter((text) => !text.includes('{')).map((text) => [text, `the rule ${text}`]));
  return templates
    .filter((text) => text.includes('{branch}'))
    .flatMap((text) =>
      named.flatMap((branch): ConfigFinding[] => {
        const expansion = tagOf(text, branch);
        const other = expansion === undefined ? undefined : taken.get(expansion);
        if (expansion !== undefined && other === undefined) {
          taken.set(expansion, `the branch ${branch}`);
        }
        return other === undefined || other === `the branch ${branch}`
          ? []
          : [
              {
                path: [...path, 'follows', follows.indexOf(branch)],
                text: `builds of ${branch} would move the tag ${expansion ?? ''}, which ${other} moves too; change ${text}`,
              },
            ];
      }),
    );
}

/** The tag of a branch by a rule of which nothing else is to be known. */
function tagOf(text: string, branch: string): string | undefined {
  try {
    const expansion = expandTag(parseTemplate(text), { product: 'product', branch }, 'image');
    return 'tag' in expansion ? expansion.tag : undefined;
  } catch {
    // Errors of the rule itself are listed elsewhere.
    return undefined;
  }
}

/** Builds or parcels come into the first environment, and releases through gates into all others. */
function checkFirstOnly(
  path: Path,
  { follows, takes, receives, gates }: RawConfig['environments'][string],
  isFirst: boolean,
): ConfigFinding[] {
  if (isFirst && receives !== undefined) {
    return checkReception(path, gates);
  }
  const first: readonly (readonly [boolean, Path, string])[] = [
    [
      takes !== undefined,
      ['takes'],
      'publish writes the first environment; `follows` names the branches whose builds take over',
    ],
    [
      gates !== undefined,
      ['gates'],
      'publish writes the first environment; gates are for those that come after it, or for one with `receives: parcels`',
    ],
  ];
  const others: typeof first = [
    [
      follows !== undefined,
      ['follows'],
      'only the first environment takes builds of branches; releases are promoted into this one',
    ],
    [
      receives !== undefined,
      ['receives'],
      'only the first environment receives parcels; releases are promoted into this one',
    ],
    [
      gates?.served !== undefined,
      ['gates', 'served'],
      'releases come here from the environment that `after` names; `served` is for one that receives parcels',
    ],
  ];
  return (isFirst ? first : others)
    .filter(([isWrong]) => isWrong)
    .map(([, below, text]) => ({ path: [...path, ...below], atKey: true, text }));
}

/** The gates that a parcel, or a clock, can answer. */
const receptionGates: readonly string[] = ['served', 'results', 'freeze'];

function checkReception(path: Path, gates: RawConfig['environments'][string]['gates'] = {}): ConfigFinding[] {
  const others = Object.keys(gates).filter((key) => !receptionGates.includes(key));
  return [
    ...others.map((key) => ({
      path: [...path, 'gates', key],
      atKey: true,
      text: `a parcel does not answer this; an environment that receives parcels can ask for ${receptionGates.join(', ')}`,
    })),
    ...(gates.results !== undefined && gates.served === undefined
      ? [
          {
            path: [...path, 'gates', 'results'],
            atKey: true,
            text: 'name the environment of the other side that has these results, too: `served: uat`',
          },
        ]
      : []),
  ];
}

function checkAfter(path: Path, after: string | undefined, earlier: readonly string[]): ConfigFinding[] {
  if (earlier.length === 0) {
    return after === undefined
      ? []
      : [{ path: [...path, 'after'], text: 'the first environment comes after none; publish writes it' }];
  }
  if (after === undefined) {
    return [{ path, text: `after is missing; only the first environment has none; there are ${earlier.join(', ')}` }];
  }
  return earlier.includes(after)
    ? []
    : [
        {
          path: [...path, 'after'],
          text: `there is no environment ${after} before this one${alsoSimilar(after, earlier)}`,
        },
      ];
}

function uniqueFindings(findings: readonly ConfigFinding[]): ConfigFinding[] {
  return [...new Map(findings.map((each) => [JSON.stringify([each.path, each.text]), each])).values()];
}

/** Finds secrets that would leave this machine without TLS. */
export function checkRegistries({ registries = {} }: Pick<RawConfig, 'registries'>): ConfigFinding[] {
  return Object.entries(registries).flatMap(([registry, access]): ConfigFinding[] => {
    const { tls, credentials } = access;
    const path = ['registries', registry];
    const host = isRegistry(registry) ? [] : [{ path, atKey: true, text: `${registry} is not the host of a registry` }];
    const exchange = jobOf(access)?.exchange.url;
    const why = exchange === undefined ? undefined : whyExposed(new URL(exchange));
    const plain = tls === false && credentials !== undefined && credentials !== 'none' && !isThisMachine(registry);
    return [
      ...host,
      ...(why === undefined ? [] : [{ path: [...path, 'credentials', 'job', 'exchange'], text: `exchange: ${why}` }]),
      ...(plain
        ? [
            {
              path: [...path, 'tls'],
              text: `tls: the login of ${registry} would go over plain HTTP, where it can be read`,
            },
          ]
        : []),
    ];
  });
}
