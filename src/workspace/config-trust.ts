import { alsoSimilar } from '../core/nearest';
import type { ConfigFinding } from './config-findings';
import type { RawConfig } from './config-schema';

/** Finds names that lead to nobody in `trust:`, and those that two kinds of signers have. */
export function checkTrust({ trust, environments }: Pick<RawConfig, 'trust' | 'environments'>): ConfigFinding[] {
  const { keys = {}, authorities = {}, people } = trust ?? {};
  const signers = [...new Set([...Object.keys(keys), ...Object.keys(authorities)])];
  const twice = Object.keys(authorities)
    .filter((name) => Object.hasOwn(keys, name))
    .map((name): ConfigFinding => {
      return { path: ['trust', 'authorities', name], atKey: true, text: `a key is called ${name} too` };
    });
  const gates = Object.entries(environments).flatMap(([environment, { gates: all = {} }]): ConfigFinding[] => {
    const path = ['environments', environment, 'gates'];
    const attested = (all.attested ?? []).flatMap(({ by }, at) =>
      [by]
        .flat()
        .filter((name) => !signers.includes(name))
        .map((name) => ({
          path: [...path, 'attested', at, 'by'],
          text: `\`trust:\` has no key and no authority ${name}${alsoSimilar(name, signers)}`,
        })),
    );
    const nobody = all['signed-commit'] === true && people === undefined;
    return [
      ...attested,
      ...(nobody
        ? [
            {
              path: [...path, 'signed-commit'],
              atKey: true,
              text: 'name the people whose signatures count: `trust: { people: { file: PATH } }`',
            },
          ]
        : []),
    ];
  });
  return [...twice, ...gates];
}
