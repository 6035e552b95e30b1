import type { CommitId } from '../core/commit';
import { parse } from 'yaml';
import type * as z from 'zod';
import { issuesToText } from '../core/json';
import { rulesDigest, type AdmissionRules, type ProductRules } from '../core/ledger/rules';
import { fileUnusable, readSmallFile } from '../system/plain-files';
import { exceptionsSchema } from './config-schema';
import type { CheckoutRules } from '../core/release/gates/rules-in-force';
import type { Config, EnvironmentConfig } from './config';
import { readTrust } from './trust';

/**
 * Reads the rules of the checkout that hod.yaml is in: those of hod.yaml, with the keys that it trusts, and the commit that is
 * checked out, where there is one.
 *
 * @throws `trust-unusable`
 */
export async function readCheckoutRules(
  config: Pick<Config, 'environments' | 'trust' | 'groups' | 'folder'>,
  commit: CommitId | undefined,
): Promise<CheckoutRules> {
  const rules: ProductRules = {
    environments: await Promise.all(
      config.environments.map(async (environment) => {
        const { name, after = null, follows, takes, receives, tagRules } = environment;
        return { name, after, follows, takes, tags: tagRules, receives, gates: await readAdmissionRules(environment) };
      }),
    ),
    trust: await readTrust(config),
    groups: config.groups,
  };
  return { rules, digest: rulesDigest(rules), commit };
}

/** Reads what an environment asks of a release, with the exceptions that stand in files. Throws `file-unusable`. */
async function readAdmissionRules({ admissionRules, exceptionFiles }: EnvironmentConfig): Promise<AdmissionRules> {
  const { resultRules } = admissionRules;
  if (resultRules === undefined || exceptionFiles.size === 0) {
    return admissionRules;
  }
  const rules = await Promise.all(
    resultRules.map(async (rule) => {
      const file = exceptionFiles.get(rule.name);
      return file === undefined ? rule : { ...rule, except: await readExceptions(file) };
    }),
  );
  return { ...admissionRules, resultRules: rules };
}

/** Reads a file of exceptions: a YAML list of `{ id, reason, by, until }`. */
async function readExceptions(file: string): Promise<z.infer<typeof exceptionsSchema>> {
  try {
    const parsed = exceptionsSchema.safeParse(parse((await readSmallFile(file)).toString('utf8')) ?? []);
    if (parsed.success) {
      return parsed.data;
    }
    throw new Error(issuesToText(parsed.error));
  } catch (error) {
    throw fileUnusable(file, error, 'write a list of `{ id, reason, by, until }`; docs/evidence.md has an example');
  }
}

/** Returns all files that rules are read from: hod.yaml, what it extends, keys, and exceptions. */
export function ruleFiles({ files, trust, environments }: Pick<Config, 'files' | 'trust' | 'environments'>): string[] {
  return [
    ...new Set([
      ...files,
      ...(trust?.keys ?? []).map(({ file }) => file),
      ...(trust?.authorities ?? []).map(({ file }) => file),
      ...(trust?.people === undefined ? [] : [trust.people]),
      ...environments.flatMap(({ exceptionFiles }) => [...exceptionFiles.values()]),
    ]),
  ];
}
