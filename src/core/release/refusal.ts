import { HodError } from '../errors';
import { unmetAmong, type Gate, type UnmetGate } from './gates/gate';

/** A failure because rules said no: one message for all of them. Its code is that of the first. */
export class Refusal extends HodError {
  constructor(readonly gates: readonly [UnmetGate, ...UnmetGate[]]) {
    const [first] = gates;
    const all = (of: (gate: UnmetGate) => string): string => [...new Set(gates.map(of))].join('\n');
    super(first.code, {
      what: gates.length === 1 ? first.what : `${gates.length} rules are not met`,
      object: all(({ object }) => object),
      why: all(({ what, detail }) => (gates.length === 1 ? detail : `${what}: ${detail}`)),
      next: all(({ remedy }) => remedy),
    });
  }
}

/** Throws a {@link Refusal} where one of the rules is not met. */
export function refuseUnmet(gates: readonly Gate[]): void {
  const [first, ...others] = unmetAmong(gates);
  if (first !== undefined) {
    throw new Refusal([first, ...others]);
  }
}
