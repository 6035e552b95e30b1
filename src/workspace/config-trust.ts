import { alsoSimilar } from '../core/nearest';
import type { ConfigFinding } from './config-findings';
import type { RawConfig } from './config-schema';

/** Finds names that lead to nobody in `trust:` and `groups:`, those that two kinds of signers have, and `sign:` without a key to trust. */
export function checkTrust({
  trust,
  sign,
  groups = {},
  environments,
}: Pick<RawConfig, 'trust' | 'sign' | 'groups' | 'environments'>): ConfigFinding[] {
  const { keys = {}, authorities = {}, issuers = {}, people } = trust ?? {};
  const signers = [...new Set([...Object.keys(keys), ...Object.keys(authorities)])];
  const twice = Object.keys(authorities)
    .filter((name) => Object.hasOwn(keys, name))
    .map((name): ConfigFinding => {
      return { path: ['trust', 'authorities', name], atKey: true, text: `a key is called ${name} too` };
    });
  const hasIssuer = Object.keys(issuers).length > 0;
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
    const signOffs = all['sign-offs'];
    const { from = [], proven } = typeof signOffs === 'object' ? signOffs : {};
    const names = Object.keys(groups);
    const unknown = from
      .filter((name) => !names.includes(name))
      .map((name) => ({
        path: [...path, 'sign-offs', 'from'],
        text: `\`groups:\` has no ${name}${alsoSimilar(name, names)}`,
      }));
    const lacking = people === undefined ? peopleWanted({ ...all, proven: hasIssuer ? undefined : proven }) : [];
    return [
      ...attested,
      ...unknown,
      ...lacking.map((key) => ({
        path: [...path, key],
        atKey: true,
        text: 'name the people whose signatures count: `trust: { people: { file: PATH } }`',
      })),
    ];
  });
  return [...twice, ...gates, ...checkSigning(sign, keys)];
}

/** What is signed with a key that nobody trusts counts for nothing. */
function checkSigning(sign: RawConfig['sign'], keys: object): ConfigFinding[] {
  const text = 'name the public key that belongs to it: `trust: { keys: { NAME: { file: PATH } } }`';
  return sign === undefined || Object.keys(keys).length > 0 ? [] : [{ path: ['sign'], atKey: true, text }];
}

/** The gates that need to know the keys of people. */
function peopleWanted(gates: {
  readonly proven: true | undefined;
  readonly 'signed-commit'?: true | undefined;
}): string[] {
  return [
    ...(gates['signed-commit'] === true ? ['signed-commit'] : []),
    ...(gates.proven === true ? ['sign-offs'] : []),
  ];
}
