import { existsSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { parseDocument } from 'yaml';
import { HodError } from '../core/errors';
import type { Compression } from '../core/oci/compression';
import { formatPlatform, parsePlatform, type Platform } from '../core/oci/platform';
import {
  formatRepository,
  parseReference,
  parseRepository,
  type Reference,
  type Repository,
} from '../core/oci/reference';
import type { Carrying } from '../core/oci/referrers';
import {
  followedBy,
  followedByOwn,
  includedTagRule,
  type Follows,
  type RulesOf,
  type TagRule,
} from '../core/tags/rules';
import { expandRepository, parseTemplate, type Template } from '../core/tags/template';
import { similarNames } from '../core/nearest';
import type { Component, Requirement } from '../core/build/component';
import { parseOutputPlace, type OutputPlace, type ReferencePlace } from '../core/build/output-place';
import { parseBody, type BodyTemplate } from '../core/ledger/announcement-body';
import { announcedKinds, type AnnouncedKind } from '../core/ledger/announcements';
import type { AdmissionRules, AttestationRule, ResultRule } from '../core/ledger/rules';
import type { Timestamp } from '../core/time';
import type { TrustedIssuer } from '../core/trust/trust-rules';
import { usualRollbacks, type KeepRules } from '../core/tidy/keep';
import type { Passage } from '../core/release/gates/passage';
import type { WayIn } from '../core/release/gates/way-in';
import { checkDocuments, problemsTold } from './config-check';
import { withVariables, type ConfigVariable } from './config-variables';
import { faultsIn, layered, readDocuments } from './config-files';
import { parseVersionTags, usualVersionTags, type VersionTags } from '../core/tags/version-tags';
import {
  ledgerSchema,
  type JobTokenPlace,
  type RawConfig,
  type RawEnvironment,
  type RawInclusion,
  type RegistryConfig,
  type SecretPlace,
  type SigningKey,
} from './config-schema';

export { configName } from './config-files';

interface CommonConfig extends Component {
  /** Patterns of the files that it is made of; undefined where hod.yaml does not say. */
  readonly inputs: readonly string[] | undefined;
}

/** An image of the product. */
export interface ImageConfiguration extends CommonConfig {
  readonly kind: 'image';
  /** Where its build outputs are; paths are absolute. */
  readonly outputs: readonly OutputPlace[];
  /** The platforms that must be there; empty where hod.yaml does not say. */
  readonly platforms: readonly Platform[];
  readonly compression: Compression;
}

/** Files that are released with the images. */
export interface BundleConfig extends CommonConfig {
  readonly kind: 'bundle';
  /** Absolute path of a folder. */
  readonly files: string;
}

/** A component that another product builds and versions, and that is released with this one. */
export interface IncludedConfig extends CommonConfig {
  readonly kind: 'included';
  /** The platforms that must be there; empty where hod.yaml does not say. */
  readonly platforms: readonly Platform[];
  readonly origin: InclusionOrigin;
}

/** What says which content of another product is meant: a reference, or what an environment of that product serves of a component. */
export type InclusionOrigin =
  | { readonly reference: Reference }
  | {
      readonly product: string;
      readonly ledger: LedgerConfig;
      readonly environment: string;
      readonly component: string;
    };

/** A component that is built here. */
export type BuiltConfig = ImageConfiguration | BundleConfig;
/** A component of the product. */
export type ComponentConfig = BuiltConfig | IncludedConfig;

/**
 * Where the ledger is kept: a file, by its absolute path; a reference of a git remote, which is a name in
 * the clone or a URL; or a database, by the place of its URL.
 */
export type LedgerConfig =
  | { readonly file: string }
  | { readonly git: { readonly remote: string; readonly refOf: (product: string) => string; readonly ref: string } }
  | { readonly postgres: SecretPlace };

/** A stage that releases pass through. */
export interface EnvironmentConfig {
  readonly name: string;
  /** The environment that releases come from; undefined for the first, where publish writes. */
  readonly after: string | undefined;
  /** The environments that releases pass through before, the nearest first. */
  readonly before: readonly string[];
  /** Names and patterns of the branches whose builds take over the first; undefined where hod.yaml does not say. */
  readonly follows: readonly string[] | undefined;
  /** Names and patterns of the branches whose releases come into any other; undefined where hod.yaml does not say. */
  readonly takes: readonly string[] | undefined;
  /** Parcels are published into it, and no builds. */
  readonly receives: 'parcels' | undefined;
  /** The tag rules of a component: those of the environment, and its own. */
  readonly rulesOf: RulesOf;
  /** Without the exceptions of results, which stand in files: {@link exceptionFiles}. */
  readonly admissionRules: AdmissionRules;
  /** The files of exceptions, by the name of the result; absolute paths. */
  readonly exceptionFiles: ReadonlyMap<string, string>;
  /** Its tag rules as texts, each with its kind; those of one component with its name. */
  readonly tagRules: readonly string[];
  /** What tidying keeps of it; undefined where it keeps everything. */
  readonly keep: KeepRules | undefined;
  /** Which referrers of components are carried into it. */
  readonly carrying: Carrying;
  /** The repository of a component in this environment. */
  repositoryOf(component: string): Repository;
}

/** Who is told of what happened to the product. */
export interface ReceiverConfig {
  readonly name: string;
  /** Its address, or where that stands if it is a secret. */
  readonly url: URL | SecretPlace;
  /** What announcements are signed with; CloudEvents always are. */
  readonly key: SecretPlace | undefined;
  readonly kinds: readonly AnnouncedKind[];
  /** What is sent instead of a CloudEvent. */
  readonly body: BodyTemplate | undefined;
}

/** Whom hod.yaml trusts: the files that hold their keys, by absolute paths. */
export interface TrustConfig {
  readonly keys: readonly {
    readonly name: string;
    readonly file: string;
    readonly from: Timestamp | undefined;
    readonly until: Timestamp | undefined;
  }[];
  readonly authorities: readonly { readonly name: string; readonly file: string; readonly names: readonly string[] }[];
  /** Who gives jobs their identity, and where the token of a job stands. */
  readonly issuers: readonly (TrustedIssuer & { readonly token: JobTokenPlace })[];
  /** A file of allowed signers. */
  readonly people: string | undefined;
}

/** A hod.yaml, checked and resolved. */
export interface Config {
  readonly product: string;
  /** Absolute path of the file. */
  readonly file: string;
  /** The absolute paths of all files that it was read from: itself, and what it extends. */
  readonly files: readonly string[];
  /** The folder that holds it; everything in it is relative to this. */
  readonly folder: string;
  /** As hod.yaml lists them: images, then bundles, then what is included. */
  readonly components: readonly ComponentConfig[];
  /** Patterns of files that all components are made of. */
  readonly sharedInputs: readonly string[];
  /** Patterns of paths in images that may hold a key, or run with the rights of others. */
  readonly allowedInside: readonly string[];
  /** In the order in which releases pass through them; never empty. */
  readonly environments: readonly [EnvironmentConfig, ...EnvironmentConfig[]];
  readonly registries: ReadonlyMap<string, RegistryConfig>;
  /** Undefined where hod.yaml does not say. */
  readonly trust: TrustConfig | undefined;
  /** What signs what is recorded; undefined where hod.yaml does not say. */
  readonly sign: { readonly key: SigningKey } | undefined;
  /** Groups of people; undefined where hod.yaml has none. */
  readonly groups: readonly { readonly name: string; readonly people: readonly string[] }[] | undefined;
  /** Whether logins that other tools on this machine share may be used. */
  readonly sharedLogins: boolean;
  readonly ledger: LedgerConfig;
  readonly receivers: readonly ReceiverConfig[];
  /** How git tags name versions of the product. */
  readonly versionTags: VersionTags;
  /** What was filled in for `{variable.NAME}`. */
  readonly variables: readonly ConfigVariable[];
  /** Where a run remembers what the next one can go on with. */
  readonly stateFolder: string;
}

/** How a configuration is read. */
export interface LoadOptions {
  /** Fill in the names of variables, not what the environment says of them. */
  readonly withoutVariables?: boolean | undefined;
}

/**
 * Reads and checks a hod.yaml, with what it extends. Throws one `usage` error that names everything that is wrong, each
 * with file, line, column and, for a name that does not exist, the nearest that does.
 */
export async function loadConfig(path: string, { withoutVariables = false }: LoadOptions = {}): Promise<Config> {
  const documents = await readDocuments(path);
  const faults = documents.map(faultsIn);
  const repeated = faults.flatMap((each) => each.repeated);
  if (faults.some(({ syntax }) => syntax.length > 0)) {
    const problems = faults.flatMap(({ syntax, repeated: keys }) => [...syntax, ...keys]);
    throw configError(path, 'it is not YAML', problems.slice(0, problemsTold));
  }
  const together = layered(documents);
  const checked =
    'problems' in together
      ? { ...together, count: together.problems.length }
      : checkDocuments(
          documents,
          withVariables(together.raw, withoutVariables ? undefined : (name) => process.env[name]),
        );
  const own = 'problems' in checked ? checked : { problems: [], count: 0 };
  const count = own.count + repeated.length;
  if ('problems' in checked || count > 0) {
    const problems = [...repeated, ...own.problems].slice(0, problemsTold);
    const more = count > problems.length ? [`and ${count - problems.length} more`] : [];
    throw configError(path, count === 1 ? 'one thing is wrong in it' : `${count} things are wrong in it`, [
      ...problems,
      ...more,
    ]);
  }
  const files = documents.map(({ file }) => file);
  return { ...resolveConfig(checked.config, resolve(path)), files, variables: checked.variables };
}

function configError(path: string, summary: string, problems: string[]): HodError {
  return new HodError('config-invalid', {
    what: 'the configuration cannot be used',
    object: path,
    why: [summary, ...problems],
    next: 'correct it; `hod config check` says when it is valid',
  });
}

function resolveConfig(raw: RawConfig, file: string): Omit<Config, 'variables' | 'files'> {
  const folder = dirname(file);
  const environments = environmentsOf(raw, folder);
  const [first, ...others] = environments;
  if (first === undefined) {
    throw new Error('a configuration without environments passed its check');
  }
  return {
    product: raw.product,
    file,
    folder,
    components: componentsOf(raw, folder),
    sharedInputs: raw['shared-inputs'] ?? [],
    allowedInside: raw['allowed-inside'] ?? [],
    environments: [first, ...others],
    registries: new Map(
      Object.entries(raw.registries ?? {}).map(([registry, access]) => [registry.toLowerCase(), access]),
    ),
    trust: raw.trust && trustConfigOf(raw.trust, folder),
    sign: raw.sign,
    groups: raw.groups && Object.entries(raw.groups).map(([name, people]) => ({ name, people })),
    sharedLogins: raw['shared-logins'] ?? true,
    receivers: Object.entries(raw.announce ?? {}).map(([name, { url, key, kinds = announcedKinds, body }]) => {
      return {
        name,
        url: typeof url === 'string' ? new URL(url) : url,
        key,
        kinds,
        body: body === undefined ? undefined : parseBody(body),
      };
    }),
    stateFolder: join(folder, '.hod'),
    versionTags: raw['version-tags'] === undefined ? usualVersionTags : parseVersionTags(raw['version-tags']),
    ledger: ledgerConfigOf(raw.ledger ?? { file: join('.hod', 'ledger.db') }, { product: raw.product, folder }),
  };
}

function environmentsOf(raw: RawConfig, folder: string): EnvironmentConfig[] {
  return Object.entries(raw.environments).map(([name, environment]): EnvironmentConfig => {
    const { after, follows, takes, receives, repository, tags, gates, referrers, keep } = environment;
    const shared = tagRulesOf(tags, (template) => followedBy(template, name));
    const own = new Map(
      [...Object.entries(raw.images), ...Object.entries(raw.bundles ?? {})].map(([component, { tags: all }]) => {
        const rules = new Map(Object.entries(all ?? {})).get(name);
        return [component, rules === undefined ? [] : tagRulesOf(rules, followedByOwn)];
      }),
    );
    return {
      name,
      after,
      before: beforeOf(raw, name),
      follows,
      takes,
      receives,
      rulesOf: (component) =>
        Object.hasOwn(raw.includes ?? {}, component) ? [includedTagRule] : [...shared, ...(own.get(component) ?? [])],
      admissionRules: admissionRulesOf(gates),
      exceptionFiles: exceptionFilesOf(gates?.results, folder),
      tagRules: [
        ...shared.map(describeTagRule),
        ...[...own].flatMap(([component, rules]) => rules.map((rule) => `${component}: ${describeTagRule(rule)}`)),
      ],
      keep: keep && keepRulesOf(keep),
      carrying: referrers?.carry ?? 'all',
      repositoryOf: (component) => parseRepository(expandRepository(repository, component, raw.product)),
    };
  });
}

function keepRulesOf({ releases, branches, rollbacks, ...keep }: NonNullable<RawEnvironment['keep']>): KeepRules {
  return { releases, branches, for: keep.for, rollbacks: rollbacks ?? usualRollbacks };
}

function exceptionFilesOf(results: RawResults = [], folder: string): Map<string, string> {
  return new Map(
    results.flatMap((each): [string, string][] =>
      typeof each === 'string' || each.except === undefined ? [] : [[each.name, resolve(folder, each.except)]],
    ),
  );
}

function beforeOf({ environments }: RawConfig, name: string): string[] {
  const of = new Map(Object.entries(environments).map(([each, { after }]) => [each, after]));
  const before: string[] = [];
  for (let at = of.get(name); at !== undefined; at = of.get(at)) {
    before.push(at);
  }
  return before;
}

function componentsOf(raw: RawConfig, folder: string): ComponentConfig[] {
  return [
    ...Object.entries(raw.images).map(([name, image]): ImageConfiguration => ({
      kind: 'image',
      name,
      outputs: [image.from].flat().map((text) => outputPlaceOf(text, folder)),
      platforms: (image.platforms ?? []).map(parsePlatform),
      compression: image.compress ?? 'gzip',
      inputs: image.inputs,
      publishAlone: image['publish-alone'] === true,
      was: [image.was ?? []].flat(),
    })),
    ...Object.entries(raw.bundles ?? {}).map(([name, bundle]): BundleConfig => ({
      kind: 'bundle',
      name,
      files: resolve(folder, bundle.files),
      inputs: bundle.inputs,
      publishAlone: bundle['publish-alone'] === true,
      was: [bundle.was ?? []].flat(),
    })),
    ...Object.entries(raw.includes ?? {}).map(([name, inclusion]): IncludedConfig => ({
      kind: 'included',
      name,
      origin: originOf(name, inclusion, folder),
      platforms: (inclusion.platforms ?? []).map(parsePlatform),
      inputs: undefined,
      publishAlone: false,
      was: [inclusion.was ?? []].flat(),
    })),
  ];
}

/** Where a build output is that is named so in hod.yaml. */
function outputPlaceOf(text: string, folder: string): OutputPlace {
  const place = parseOutputPlace(text, (path) => existsSync(resolve(folder, path)));
  return place.kind === 'path' ? { ...place, path: resolve(folder, place.path) } : place;
}

function originOf(name: string, inclusion: RawInclusion, folder: string): InclusionOrigin {
  const { from, product, ledger, environment, component = name } = inclusion;
  if (from !== undefined) {
    return { reference: parseReference(from) };
  }
  if (product === undefined || ledger === undefined || environment === undefined) {
    throw new Error('the schema lets an inclusion pass that names nothing');
  }
  return { product, ledger: ledgerConfigOf(ledger, { product, folder }), environment, component };
}

function trustConfigOf(
  { keys = {}, authorities = {}, issuers = {}, people }: NonNullable<RawConfig['trust']>,
  folder: string,
): TrustConfig {
  return {
    keys: Object.entries(keys).flatMap(([name, files]) =>
      [files].flat().map(({ file, from, until }) => ({ name, file: resolve(folder, file), from, until })),
    ),
    authorities: Object.entries(authorities).map(([name, { file, names }]) => {
      return { name, file: resolve(folder, file), names };
    }),
    issuers: Object.entries(issuers).map(([name, { url, audience, subject, token }]) => {
      return { name, url, audience, subjects: [subject].flat(), token };
    }),
    people: people && resolve(folder, people.file),
  };
}

/** Where a ledger is that stands there so in hod.yaml. */
function ledgerConfigOf(
  ledger: NonNullable<RawConfig['ledger']>,
  { product, folder }: Pick<Config, 'product' | 'folder'>,
): LedgerConfig {
  if ('git' in ledger) {
    const { remote = 'origin', ref = 'refs/hod/{product}' } = ledger.git;
    const refOf = (name: string): string => ref.replaceAll('{product}', name);
    return { git: { remote, ref: refOf(product), refOf } };
  }
  return 'file' in ledger ? { file: resolve(folder, ledger.file) } : ledger;
}

/** A configuration with another ledger, written as under `ledger:` in hod.yaml. Throws `not-a-ledger`. */
export function withLedgerAt(text: string, config: Config): Config {
  const document = parseDocument(text);
  const parsed = ledgerSchema.safeParse(document.errors.length > 0 ? undefined : document.toJS());
  if (!parsed.success) {
    throw new HodError('not-a-ledger', {
      what: 'this is no place of a ledger',
      object: text,
      why: 'it must be what may stand under `ledger:` in hod.yaml, in braces',
      next: "write '{ file: PATH }', '{ git: { remote: NAME } }' or '{ postgres: { env: VARIABLE } }'",
    });
  }
  return { ...config, ledger: ledgerConfigOf(parsed.data, config) };
}

function describeTagRule(rule: TagRule): string {
  return `${rule.kind} ${rule.template.text}${rule.kind === 'moving' ? ` (${rule.follows})` : ''}`;
}

function tagRulesOf(
  { fixed = [], moving = [] }: RawEnvironment['tags'],
  follows: (template: Template) => Follows,
): TagRule[] {
  return [
    ...fixed.map((text) => ({ kind: 'fixed' as const, template: parseTemplate(text) })),
    ...moving.map(({ tag, follows: chosen }) => {
      const template = parseTemplate(tag);
      return { kind: 'moving' as const, template, follows: chosen ?? follows(template) };
    }),
  ];
}

function admissionRulesOf(gates: RawEnvironment['gates'] = {}): AdmissionRules {
  return {
    ...resultRulesOf(gates.results),
    ...signOffRulesOf(gates['sign-offs']),
    soak: gates.soak ?? 0,
    freeze: gates.freeze ?? [],
    platforms: (gates.platforms ?? []).map((text) => formatPlatform(parsePlatform(text))),
    annotations: gates.annotations ?? [],
    referrers: gates.referrers ?? [],
    ...(gates.attested === undefined ? {} : { attested: gates.attested.map(attestationRuleOf) }),
    ...(gates['signed-commit'] === undefined ? {} : { signedCommit: true }),
    ...(gates.served === undefined ? {} : { served: gates.served }),
  };
}

type RawResults = NonNullable<RawEnvironment['gates']>['results'];

/** The rules about results, without exceptions, which stand in files. */
function resultRulesOf(results: RawResults = []): Pick<AdmissionRules, 'results' | 'resultRules'> {
  const rules = results.flatMap((each): ResultRule[] =>
    typeof each === 'string' ? [] : [{ name: each.name, atMost: each['at-most'], noOlderThan: each['no-older-than'] }],
  );
  return {
    results: results.map((each) => (typeof each === 'string' ? each : each.name)),
    ...(rules.length === 0 ? {} : { resultRules: rules }),
  };
}

function signOffRulesOf(
  rule: NonNullable<RawEnvironment['gates']>['sign-offs'],
): Pick<AdmissionRules, 'signOffs' | 'signOffsFrom' | 'signOffsProven'> {
  return typeof rule === 'object'
    ? { signOffs: rule.count, signOffsFrom: rule.from, signOffsProven: rule.proven }
    : { signOffs: rule ?? 0 };
}

type RawAttestation = NonNullable<NonNullable<RawEnvironment['gates']>['attested']>[number];

function attestationRuleOf({ type, by, where = {}, dated, each, ...rule }: RawAttestation): AttestationRule {
  return {
    type,
    by: [by].flat(),
    where: Object.entries(where).map(([field, values]) => ({ field, values: [values].flat().map(String) })),
    noOlderThan: rule['no-older-than'],
    dated,
    each,
  };
}

/** A component by its name. Throws a `usage` error, with similar names, where there is none. */
function componentNamed({ components, file }: Config, name: string): ComponentConfig {
  const found = components.find((each) => each.name === name);
  if (found === undefined) {
    throw new HodError('component-unknown', {
      what: 'there is no such component',
      object: name,
      why: `${file} has none of this name`,
      next: similarNames(
        name,
        components.map((each) => each.name),
      ),
    });
  }
  return found;
}

/** The components that are named; all where none is. Throws a `usage` error for a name that there is not. */
export function chosenComponents(config: Config, names: readonly string[]): readonly ComponentConfig[] {
  return names.length === 0 ? config.components : [...new Set(names)].map((name) => componentNamed(config, name));
}

/** Whether hod.yaml names a registry: an environment has a repository there, or it stands under `registries:`. */
export function namesRegistry({ environments, components, registries }: Config, registry: string): boolean {
  return (
    registries.has(registry) ||
    environments.some((each) => components.some(({ name }) => each.repositoryOf(name).registry === registry))
  );
}

/** Whether a component is built by another product. */
export function isIncluded(component: ComponentConfig): component is IncludedConfig {
  return component.kind === 'included';
}

/** Whether a component is built here. */
export function isBuilt(component: ComponentConfig): component is BuiltConfig {
  return !isIncluded(component);
}

/** What hod.yaml asks of a component. */
export function requirementOf(component: ComponentConfig): Requirement {
  const outputs = component.kind === 'image' ? component.outputs.length : 1;
  return { platforms: component.kind === 'bundle' ? [] : component.platforms.map(formatPlatform), outputs };
}

/** Where the build outputs of an image are, or the files of a bundle. */
export function outputsOf(component: BuiltConfig): readonly OutputPlace[] {
  return component.kind === 'bundle' ? [{ kind: 'path', path: component.files }] : component.outputs;
}

/** Every build output that a builder pushes to a registry, and the image that it is of. */
export function pushedOutputs(
  components: readonly ComponentConfig[],
): { readonly component: string; readonly place: ReferencePlace }[] {
  return components
    .filter(isBuilt)
    .flatMap((component) =>
      outputsOf(component).flatMap((place) =>
        place.kind === 'reference' ? [{ component: component.name, place }] : [],
      ),
    );
}

/** An environment by its name. Throws a `usage` error, with similar names, where there is none. */
export function environmentNamed(config: Config, name: string): EnvironmentConfig {
  const found = config.environments.find((each) => each.name === name);
  if (found === undefined) {
    const known = config.environments.map((each) => each.name);
    throw new HodError('environment-unknown', {
      what: 'there is no such environment',
      object: name,
      why: `${config.file} has none of this name`,
      next: similarNames(name, known),
    });
  }
  return found;
}

/** How releases come into an environment. */
export function wayInto(environment: EnvironmentConfig): WayIn {
  return {
    environment: environment.name,
    before: environment.before,
    repositoryOf: (component) => formatRepository(environment.repositoryOf(component)),
  };
}

/** The way into an environment. Throws `first-environment` where there is none before it. */
export function passageInto(config: Config, name: string): Passage<EnvironmentConfig> {
  const to = environmentNamed(config, name);
  if (to.after === undefined) {
    throw new HodError('first-environment', {
      what: 'nothing can be promoted here',
      object: name,
      why: 'it is the first environment; releases come into it by publishing',
      next: 'run `hod publish`, or name a later environment',
    });
  }
  return { from: environmentNamed(config, to.after), to };
}
