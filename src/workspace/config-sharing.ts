import { commonTag, tagForm, type TagForm } from '../core/tags/overlap';
import { includedTagRule, namesContentAlone } from '../core/tags/rules';
import { expandRepository, parseTemplate, TemplateError, type Template } from '../core/tags/template';
import type { ConfigFinding, Path } from './config-findings';
import type { RawConfig } from './config-schema';

type TagRules = RawConfig['environments'][string]['tags'];
type Sharing = Pick<RawConfig, 'product' | 'images' | 'bundles' | 'includes' | 'environments'>;

/** Finds rules by which environments, or components, that share a repository would get in each other's way. */
export function checkSharing(raw: Sharing): ConfigFinding[] {
  return [...checkSharedTags(raw), ...checkSharedRepositories(raw)];
}

/** A tag rule, and where it stands. */
interface PlacedRule {
  environment: string;
  repository: string;
  kind: 'fixed' | 'moving';
  text: string;
  path: Path;
}

/**
 * A moving tag shows what one environment serves: another must not move it, nor write it as a fixed one. Two rules meet
 * where they are alike and stand in one repository, whatever that is called.
 */
function checkSharedTags(raw: Sharing): ConfigFinding[] {
  const rules = Object.entries(raw.environments).flatMap(([environment, { repository, tags }]) =>
    Object.entries({ ...raw.images, ...raw.bundles }).flatMap(([component, { tags: own = {} }]) => {
      const place = expandRepository(repository, component, raw.product).toLowerCase();
      const name = Object.hasOwn(raw.images, component) ? 'images' : 'bundles';
      return [
        ...placedRules(tags, ['environments', environment, 'tags']),
        ...placedRules(own[environment] ?? {}, [name, component, 'tags', environment]),
      ].map((rule): PlacedRule => ({ ...rule, environment, repository: place }));
    }),
  );
  const movers = new Map<string, PlacedRule>();
  const fixers = new Map<string, PlacedRule>();
  const findings: ConfigFinding[] = [];
  for (const rule of rules) {
    const key = `${rule.repository} ${rule.text}`;
    const [mover, fixer] = [movers.get(key), fixers.get(key)];
    if (rule.kind === 'moving' && fixer !== undefined) {
      findings.push({
        path: rule.path,
        text: `${rule.text} is a fixed tag of ${fixer.environment} in this repository, and never moves`,
      });
    } else if (rule.kind === 'fixed' && mover !== undefined) {
      findings.push({
        path: rule.path,
        text: `${mover.environment} moves ${rule.text} in this repository; a fixed tag never moves`,
      });
    } else if (rule.kind === 'moving' && mover !== undefined && mover.environment !== rule.environment) {
      findings.push({
        path: rule.path,
        text: `${mover.environment} moves ${rule.text} in this repository too; give each environment tags of its own`,
      });
    }
    const known = rule.kind === 'moving' ? movers : fixers;
    known.set(key, known.get(key) ?? rule);
  }
  return findings;
}

function placedRules({ fixed = [], moving = [] }: TagRules, path: Path) {
  return [
    ...fixed.map((text, at) => ({ kind: 'fixed' as const, text, path: [...path, 'fixed', at] })),
    ...moving.map(({ tag: text }, at) => ({ kind: 'moving' as const, text, path: [...path, 'moving', at] })),
  ];
}

/** A rule that a component has in an environment, and the tags that it may give. */
interface ComponentRule {
  readonly environment: string;
  readonly component: string;
  readonly text: string;
  readonly template: Template;
  readonly form: TagForm;
}

/**
 * Components may share a repository where no rule of one can give a tag that a rule of another gives: such tags would be taken, or
 * moved, by whichever is published first.
 */
function checkSharedRepositories(raw: Sharing): ConfigFinding[] {
  const inRepository = new Map<string, { readonly environment: string; readonly component: string }[]>();
  for (const [environment, { repository }] of Object.entries(raw.environments)) {
    for (const component of Object.keys({ ...raw.images, ...raw.bundles, ...raw.includes })) {
      const place = expandRepository(repository, component, raw.product).toLowerCase();
      inRepository.set(place, [...(inRepository.get(place) ?? []), { environment, component }]);
    }
  }
  return [...inRepository.values()]
    .filter((here) => new Set(here.map(({ component }) => component)).size > 1)
    .flatMap((here) => {
      const rules = here.flatMap((each) =>
        rulesIn(raw, each).flatMap((text) => ruleOf({ ...each, text }, raw.product)),
      );
      return firstCommon(rules) ?? [];
    });
}

/** The texts of the rules that a component has in an environment. */
function rulesIn(
  { images, bundles, includes = {}, environments }: Sharing,
  { environment, component }: Pick<ComponentRule, 'environment' | 'component'>,
): string[] {
  if (Object.hasOwn(includes, component)) {
    return [includedTagRule.template.text];
  }
  const own = { ...images, ...bundles }[component]?.tags?.[environment];
  return [environments[environment]?.tags, own].flatMap((rules) => (rules === undefined ? [] : textsOf(rules)));
}

/** The texts of rules, the fixed ones first. */
export function textsOf({ fixed = [], moving = [] }: TagRules): string[] {
  return [...fixed, ...moving.map(({ tag }) => tag)];
}

function ruleOf(rule: Pick<ComponentRule, 'environment' | 'component' | 'text'>, product: string): ComponentRule[] {
  try {
    const template = parseTemplate(rule.text);
    return [{ ...rule, template, form: tagForm(template, { component: rule.component, product }) }];
  } catch (error) {
    if (error instanceof TemplateError) {
      // Errors of the rule itself are listed elsewhere.
      return [];
    }
    throw error;
  }
}

/** The first tag that two components in one repository could both have. */
function firstCommon(rules: readonly ComponentRule[]): ConfigFinding | undefined {
  for (const [at, rule] of rules.entries()) {
    for (const other of rules.slice(at + 1)) {
      const isSame = namesContentAlone(rule.template) && namesContentAlone(other.template);
      const common = rule.component === other.component || isSame ? undefined : commonTag(rule.form, other.form);
      if (common !== undefined) {
        const rest = rule.text === other.text ? `the rule ${rule.text}` : `the rules ${rule.text} and ${other.text}`;
        return {
          path: ['environments', other.environment, 'repository'],
          text: `${rule.component} and ${other.component} would share this repository, and by ${rest} both could have the tag ${common}; put {image} into the repository, or change the rules so that no two give one tag`,
        };
      }
    }
  }
  return undefined;
}
