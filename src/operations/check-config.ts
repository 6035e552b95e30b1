import { configName, loadConfig } from '../workspace/config';
import type { ConfigCheckResult } from './results';

/** Checks a configuration. Throws one `usage` error that names everything that is wrong in it. */
export async function checkConfig(path: string = configName): Promise<ConfigCheckResult> {
  const config = await loadConfig(path);
  return {
    file: path,
    product: config.product,
    images: config.images.map(({ name }) => name),
    bundles: config.bundles.map(({ name }) => name),
    environments: config.environments.map(({ name }) => name),
  };
}
