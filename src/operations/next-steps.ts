import type { DeliveredResult } from '../results/delivery';
import type { NextStep } from '../results/common';
import type { Config } from '../workspace/config';

/** A command with the configuration that it is to read, where that was named, as a shell takes it. */
function withConfig(command: string, named: string | undefined): string {
  if (named === undefined) {
    return command;
  }
  const quoted = /^[\w./-]+$/.test(named) ? named : `'${named.replaceAll("'", String.raw`'\''`)}'`;
  return `${command} -c ${quoted}`;
}

/** What people do after a release took over in an environment. `named`: the configuration, where it was named. */
export function stepsAfterDelivery(
  { environments }: Config,
  named: string | undefined,
  environment: string,
  { components }: { readonly components: readonly Pick<DeliveredResult, 'way' | 'tags'>[] },
): NextStep[] {
  const outcomes = components.flatMap(({ tags }) => tags.map(({ outcome }) => outcome));
  if (
    !components.some(({ way }) => way === 'takes-over') ||
    !outcomes.some((each) => each === 'created' || each === 'moved')
  ) {
    return [];
  }
  const run = (command: string): string => withConfig(command, named);
  const following = environments.filter((each) => each.after === environment);
  return [
    ...(following.length === 0 ? [{ command: run('hod status'), does: 'shows what every environment serves' }] : []),
    ...following.flatMap(({ name }) => [
      { command: run(`hod compare ${name} ${environment}`), does: `tells what would change in ${name}` },
      { command: run(`hod promote ${name}`), does: `brings it to ${name}, through its gates` },
    ]),
    ...(outcomes.includes('moved')
      ? [{ command: run(`hod rollback ${environment} --reason "…"`), does: 'goes back, where it is wrong' }]
      : []),
  ];
}

/** What people do after environments were adopted. */
export function stepsAfterAdoption(
  { environments: all }: Config,
  named: string | undefined,
  adopted: readonly { readonly name: string }[],
): NextStep[] {
  const following = all.find(
    ({ name, after }) => adopted.some((each) => each.name === after) && !adopted.some((each) => each.name === name),
  );
  return [
    { command: withConfig('hod status', named), does: 'shows what every environment serves' },
    following === undefined
      ? { command: withConfig('hod publish', named), does: 'publishes the next build' }
      : {
          command: withConfig(`hod adopt ${following.name}`, named),
          does: `records what ${following.name} serves, too`,
        },
  ];
}

/** What people do after an environment was rolled back. */
export function stepsAfterRollback(named: string | undefined): NextStep[] {
  return [
    { command: withConfig('hod status', named), does: 'shows what every environment serves' },
    { command: withConfig('hod timeline', named), does: 'tells who did what, and when' },
  ];
}
