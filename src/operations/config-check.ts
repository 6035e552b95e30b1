import { placeText } from '../core/build/output-place';
import { HodError } from '../core/errors';
import { servedIn } from '../core/ledger/environment';
import type { ConfigCheckResult } from '../results/config';
import { isOwnToJob, ledgerLabel, sharingAdvice, withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { readTrust } from '../workspace/trust';
import { configName, pushedOutputs, type ComponentConfig, type Config } from '../workspace/config';

/** Checks a configuration. Throws one `usage` error that names everything that is wrong in it. */
export async function checkConfig({
  config: path = configName,
  ...options
}: SessionOptions): Promise<ConfigCheckResult> {
  return withProduct({ config: path, ...options }, async (config, session) => {
    const { product, components, environments } = config;
    await readTrust(config);
    const named = (kind: ComponentConfig['kind']): string[] =>
      components.filter((each) => each.kind === kind).map(({ name }) => name);
    return {
      file: path,
      product,
      images: named('image'),
      bundles: named('bundle'),
      pushed: pushedOutputs(components).map(({ component, place }) => ({ component, reference: placeText(place) })),
      includes: named('included'),
      environments: environments.map(({ name }) => name),
      warnings: [
        ...(isOwnToJob(config)
          ? [
              `the ledger is a file in the clone of this job (${ledgerLabel(config)}), which other jobs do not see. ${sharingAdvice}`,
            ]
          : []),
        ...(await askForRenames(config, session)),
      ],
    };
  });
}

/** Asks where a component went and another came: that may be one that was renamed. Nothing where the ledger cannot be read. */
async function askForRenames(config: Config, session: Session): Promise<string[]> {
  const { components, environments } = config;
  const [{ name }] = environments;
  const reading = withLedger(config, session, 'read', async (ledger): Promise<string[]> => {
    const { facts } = await ledger.read([{ kind: 'environment', key: name }]);
    return servedIn(facts, name).map(({ component }) => component);
  });
  const served = await reading.catch((error: unknown): string[] => {
    if (error instanceof HodError) {
      return [];
    }
    throw error;
  });
  const gone = served.filter((each) => !components.some((one) => one.name === each || one.was.includes(each)));
  const come = components.filter((one) => ![one.name, ...one.was].some((each) => served.includes(each)));
  return gone.length === 0 || come.length === 0 || served.length === 0
    ? []
    : [
        `${name} serves ${gone.join(', ')}, which hod.yaml has no more, and hod.yaml has ${come.map((one) => one.name).join(', ')}, which ${name} does not serve. Where one was renamed, write its former name under it (\`was: ${gone[0] ?? ''}\`); else what is gone retires with the next release`,
      ];
}
