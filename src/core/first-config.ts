import { normalName } from './names';

/** An image in a build output that was found. */
export interface FoundImage {
  /** Relative to the configuration. */
  readonly path: string;
  /** The name of the image in the build output, where that has several. */
  readonly name: string | undefined;
  /** `os/arch[/variant]` of what it holds. */
  readonly platforms: readonly string[];
}

/** What a new configuration is made from. */
export interface Findings {
  /** The name of the folder, or of what it is a clone of. */
  readonly name: string;
  readonly images: readonly FoundImage[];
  /** The branch that is built as a rule. */
  readonly branch: string;
  /** The git remote that all jobs share; undefined where there is none, or no CI to share it. */
  readonly remote: string | undefined;
  /** The place of repositories, as {@link repositoryIn} takes it; undefined for the stand-in on this machine. */
  readonly registry: string | undefined;
  /** The environments whose repositories have tags already. */
  readonly tagged: readonly string[];
  /** Whether git has a tag that names a version. */
  readonly versioned: boolean;
  /** What git has of it: a commit to publish, none yet, or it is no clone. */
  readonly git: 'commit' | 'empty' | 'none';
}

/** An image of a new configuration. */
export interface FirstImage {
  readonly name: string;
  readonly from: readonly string[];
  readonly platforms: readonly string[];
}

/** A new configuration, and what to do with it. */
export interface FirstConfig {
  readonly product: string;
  readonly images: readonly FirstImage[];
  readonly environments: readonly string[];
  readonly text: string;
  /** Command lines, and what they do. */
  readonly next: readonly { readonly command: string; readonly does: string }[];
}

/** Where `hod sandbox` listens. */
const sandboxRegistry = 'sandbox.localhost:5510';
export const firstEnvironments = ['dev', 'uat', 'prod'] as const;

/**
 * Names the repository of an environment, with `{image}` in it.
 *
 * @param place A registry, with a path where it has one; `{environment}` and `{image}` may stand in it, and follow it where they do not.
 */
export function repositoryIn(place: string, environment: string): string {
  const whole = place.includes('{environment}') || place.includes('{image}') ? place : `${place}/{environment}`;
  const named = whole.includes('{image}') ? whole : `${whole}/{image}`;
  return named.replaceAll('{environment}', environment);
}

/** Composes the first hod.yaml of a product. It passes `hod config check` whatever was found. */
export function firstConfig(findings: Findings, fileName: string): FirstConfig {
  const product = normalName(findings.name, 'product');
  const found = firstImages(findings.images);
  const images = found.length > 0 ? found : [{ name: product, from: [`out/${product}`], platforms: [] }];
  return {
    product,
    images: found,
    environments: firstEnvironments,
    text: textOf(product, images, found.length > 0, findings),
    next: nextOf(findings, fileName),
  };
}

/** The platform that a name ends with, as builders write it who build each on its own. */
const platformEnd =
  /[-_.](?:linux[-_.])?(?:amd64|x86[-_]64|arm64|aarch64|arm(?:[-_.]?v[67]|hf)?|armv[67]l?|386|i[36]86|ppc64le|s390x|riscv64)(?:[-_.]v\d)?$/i;

/** Outputs of one name, for platforms of their own, are one image. */
export function firstImages(found: readonly FoundImage[]): FirstImage[] {
  const images = new Map<string, FirstImage>();
  for (const { path, name: imageName, platforms } of found) {
    const base = (imageName ?? path).replace(/\.(tar\.gz|tgz|tar)$/, '');
    const last =
      base
        .split('/')
        .at(-1)
        ?.replace(/[:@].*$/, '') ?? '';
    const name = normalName(last.replace(platformEnd, ''), 'image');
    const from = imageName === undefined ? path : `${path}#${imageName}`;
    const known = images.get(name);
    if (known === undefined) {
      images.set(name, { name, from: [from], platforms });
    } else if (!platforms.some((platform) => known.platforms.includes(platform))) {
      images.set(name, { name, from: [...known.from, from], platforms: [...known.platforms, ...platforms] });
    }
  }
  return [...images.values()];
}

function textOf(
  product: string,
  images: readonly FirstImage[],
  isBuilt: boolean,
  { registry, branch, remote, versioned }: Findings,
): string {
  const { fixed, ofProd } = tagLines(versioned);
  const place = registry ?? `${sandboxRegistry}/${product}`;
  const repository = (environment: string) => scalar(repositoryIn(place, environment));
  return `# How Hod releases ${product}: hod config check reads this, docs/configuration.md has every key.
product: ${scalar(product)}

images:
${images.flatMap((image) => imageLines(image, isBuilt)).join('\n')}

# A release goes through these in order, and its digests stay the same.
environments:
  dev:
    # hod publish writes here. Builds of these branches take over; others are kept beside.
    follows: [${scalar(branch)}]
    repository: ${repository('dev')}${registry === undefined ? '   # the stand-in of hod sandbox: put your registry here' : ''}
    tags:
      fixed: ["c-{commit:12}", "{version}"]   # written once; the version is that of the git tag: v1.0.0
      moving: ["{branch}"]                    # always the newest
  uat:
    after: dev
    repository: ${repository('uat')}
    tags: { fixed: ${fixed}, moving: [uat] }
    # Asks for: hod record result smoke --passed --in dev
    # gates: { results: [smoke] }
  prod:
    after: uat
    repository: ${repository('prod')}
${ofProd}
    # gates: { sign-offs: 1, soak: 24h }

# Where the login comes from; a secret itself never stands here. For pipelines without one: docs/access.md.
# registries:
#   ${place.split('/')[0] ?? ''}: { credentials: { username: { env: REGISTRY_USER }, password: { env: REGISTRY_PASSWORD } } }

# The record of what was published and promoted. Every job must see the same one: see docs/ledger.md.
${
  remote === undefined
    ? '# ledger: { git: { remote: origin } }   # a reference of its own in the git remote; without it, a file: .hod/ledger.db'
    : `ledger: { git: { remote: ${scalar(remote)} } }   # a reference of its own in the remote; no branch, no tag`
}
`;
}

/** Tag rules of the environments after the first: of a product without versions, they name commits. */
function tagLines(versioned: boolean): { fixed: string; ofProd: string } {
  if (versioned) {
    return {
      fixed: '["{version}"]',
      ofProd: '    tags: { fixed: ["{version}"], moving: ["{major}.{minor}", "{major}", latest] }',
    };
  }
  const fixed = '["c-{commit:12}", "{version}"]';
  return {
    fixed,
    ofProd: `    # No tag in git names a version yet, so latest follows what prod serves. With versions: moving: ["{major}.{minor}", latest]
    tags: { fixed: ${fixed}, moving: [prod, { tag: latest, follows: environment }] }`,
  };
}

function imageLines({ name, from, platforms }: FirstImage, isBuilt: boolean): string[] {
  const [only] = from;
  const paths = from.length === 1 ? scalar(only ?? '') : `[${from.map(scalar).join(', ')}]`;
  const comment = isBuilt
    ? ''
    : '   # where your builder writes: an OCI image layout, or an archive with manifest.json';
  return [
    `  ${name}:`,
    `    from: ${paths}${comment}`,
    ...(platforms.length === 0 ? [] : [`    platforms: [${platforms.join(', ')}]`]),
  ];
}

/** A YAML scalar that is a text, whatever it looks like. */
function scalar(text: string): string {
  const isPlain = /^[a-z][a-z0-9_./:-]*[a-z0-9]$/i.test(text) && !/^(true|false|yes|no|on|off|null)$/i.test(text);
  return isPlain && !text.includes(': ') ? text : JSON.stringify(text);
}

function nextOf({ registry, git, tagged }: Findings, fileName: string): FirstConfig['next'] {
  const commit = `git add ${fileName} && git commit --message "Describe the releases"`;
  const option = fileName === 'hod.yaml' ? '' : ` --config ${fileName}`;
  return [
    ...(git === 'commit'
      ? []
      : [{ command: git === 'none' ? `git init && ${commit}` : commit, does: 'a release is of a commit' }]),
    registry === undefined
      ? { command: 'hod sandbox &', does: 'a registry on this machine, to try it with' }
      : { command: `hod access check${option}`, does: 'what this user may do there' },
    ...(tagged.length > 0
      ? [
          {
            command: `hod adopt ${tagged.join(' ')} --dry-run${option}`,
            does: `which releases ${tagged.length === 1 ? 'its tags lead' : 'their tags lead'} to; without --dry-run, record them`,
          },
        ]
      : []),
    { command: `hod publish${option}`, does: 'into dev' },
    ...(tagged.length > 0 ? [] : [{ command: `hod promote uat${option}`, does: 'the same digests into uat' }]),
  ];
}
