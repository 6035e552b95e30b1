import { expandTag } from '../core/tags/template';
import { formatReference, formatRepository } from '../core/oci/reference';
import { describeKeep } from '../core/tidy/keep';
import type { AttestationRule } from '../core/ledger/rules';
import { describeResult } from '../core/release/gates/describe-rules';
import { describeWindow } from '../core/release/gates/freeze-window';
import type { ConfigShowResult } from '../results/config';
import { ledgerLabel } from '../session/open-ledger';
import { configName, isIncluded, loadConfig, type Config, type EnvironmentConfig } from '../workspace/config';
import { usualBranches } from '../workspace/git';
import { describeSigningKey } from '../workspace/signing-key';
import { readTrust } from '../workspace/trust';
import { toTrust } from '../results/config';

/** What `config show` is told. */
export interface ShowConfigOptions {
  config?: string | undefined;
  /** Tell the tags that builds of this branch get. */
  branch?: string | undefined;
}

/** What a configuration means, with everything that it leaves to Hod. Throws as {@link loadConfig} does. */
export async function showConfig({ config: path = configName, branch }: ShowConfigOptions): Promise<ConfigShowResult> {
  const config = await loadConfig(path);
  const usual = await usualBranches(config.folder);
  return {
    file: path,
    product: config.product,
    ledger: ledgerLabel(config),
    variables: config.variables.map(({ name, value, env }) => ({ name, value, env: env ?? null })),
    includes: config.components.filter(isIncluded).map(({ name, origin }) => {
      if ('reference' in origin) {
        return { component: name, reference: formatReference(origin.reference), served: null };
      }
      const { product, environment, component } = origin;
      return {
        component: name,
        reference: null,
        served: { product, environment, component, ledger: ledgerLabel(origin) },
      };
    }),
    announce: config.receivers.map(({ name, url, kinds }) => ({
      receiver: name,
      url: url instanceof URL ? url.href : null,
      kinds: [...kinds],
    })),
    sign: config.sign === undefined ? null : describeSigningKey(config.sign.key),
    trust: toTrust(await readTrust(config)),
    groups: (config.groups ?? []).map(({ name, people }) => ({ name, people: [...people] })),
    environments: config.environments.map((environment) => describe(environment, config, { usual, branch })),
  };
}

function describe(
  environment: EnvironmentConfig,
  { product, components, environments: [first] }: Config,
  { usual, branch }: { usual: string[]; branch: string | undefined },
): ConfigShowResult['environments'][number] {
  const followed = first.follows ?? usual;
  const { name, after, follows, takes, receives, admissionRules, rulesOf, carrying, keep } = environment;
  const { results, signOffs, soak, freeze, platforms, annotations, referrers, attested = [], served } = admissionRules;
  return {
    environment: name,
    after: after ?? null,
    follows: after === undefined ? { branches: [...(follows ?? usual)], usual: follows === undefined } : null,
    receives: after === undefined ? (receives ?? 'builds') : null,
    takes: after === undefined ? null : [...(takes ?? followed)],
    gates: {
      served: served ?? null,
      results: [...results],
      resultRules: (admissionRules.resultRules ?? []).map((rule) => ({ name: rule.name, rule: describeResult(rule) })),
      signOffs,
      signOffsFrom: [...(admissionRules.signOffsFrom ?? [])],
      signOffsProven: admissionRules.signOffsProven === true,
      soak,
      freeze: freeze.map(describeWindow),
      platforms: [...platforms],
      annotations: [...annotations],
      referrers: [...referrers],
      attested: attested.map(toAttestation),
      signedCommit: admissionRules.signedCommit === true,
    },
    keep: keep === undefined ? null : describeKeep(keep),
    referrers: [carrying].flat(),
    components: components.map(({ name: component }) => ({
      component,
      repository: formatRepository(environment.repositoryOf(component)),
      tags: rulesOf(component).map((rule) => {
        const expansion = expandTag(rule.template, { product, branch }, component);
        return {
          rule: rule.template.text,
          kind: rule.kind,
          follows: rule.kind === 'moving' ? rule.follows : null,
          tag: branch !== undefined && 'tag' in expansion ? expansion.tag : null,
        };
      }),
    })),
  };
}

function toAttestation({ type, by, where, noOlderThan, each }: AttestationRule): Attestation {
  return {
    ...{ type, by: [...by], noOlderThan: noOlderThan ?? null, each: each ?? null },
    where: where.map(({ field, values }) => ({ field, values: [...values] })),
  };
}
type Attestation = ConfigShowResult['environments'][number]['gates']['attested'][number];
