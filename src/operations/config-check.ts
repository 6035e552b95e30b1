import type { ConfigCheckResult } from '../results/config';
import { isOwnToJob, ledgerLabel, sharingAdvice } from '../session/open-ledger';
import { configName, loadConfig } from '../workspace/config';

/** Checks a configuration. Throws one `usage` error that names everything that is wrong in it. */
export async function checkConfig(path: string = configName): Promise<ConfigCheckResult> {
  const config = await loadConfig(path);
  const { product, components, environments } = config;
  const named = (kind: 'image' | 'bundle'): string[] =>
    components.filter((each) => each.kind === kind).map(({ name }) => name);
  return {
    file: path,
    product,
    images: named('image'),
    bundles: named('bundle'),
    environments: environments.map(({ name }) => name),
    warnings: isOwnToJob(config)
      ? [
          `the ledger is a file in the clone of this job (${ledgerLabel(config)}), which other jobs do not see. ${sharingAdvice}`,
        ]
      : [],
  };
}
