import type { ConfigCheckResult } from '../results/config';
import { configName, loadConfig } from '../workspace/config';

/** Checks a configuration. Throws one `usage` error that names everything that is wrong in it. */
export async function checkConfig(path: string = configName): Promise<ConfigCheckResult> {
  const { product, components, environments } = await loadConfig(path);
  const named = (kind: 'image' | 'bundle'): string[] =>
    components.filter((each) => each.kind === kind).map(({ name }) => name);
  return {
    file: path,
    product,
    images: named('image'),
    bundles: named('bundle'),
    environments: environments.map(({ name }) => name),
  };
}
