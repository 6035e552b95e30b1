import { HodError } from '../errors';
import { asOneLine, joinLines, linesOf, type Text } from '../text';
import { unmetAmong, type Gate, type UnmetGate } from './gates/gate';

/** A failure because rules said no: one message for all of them. Its code is that of the first. */
export class Refusal extends HodError {
  constructor(readonly gates: readonly [UnmetGate, ...UnmetGate[]]) {
    const [first] = gates;
    // Two rules may say the same; within what one of them says, a line may well stand twice.
    const all = (of: (gate: UnmetGate) => Text): readonly string[] =>
      [...new Map(gates.map((gate) => [joinLines(of(gate)), linesOf(of(gate))])).values()].flat();
    super(first.code, {
      what: gates.length === 1 ? first.what : `${gates.length} rules are not met`,
      object: all(({ object }) => object),
      why: all(({ what, detail }) => (gates.length === 1 ? detail : `${what}: ${asOneLine(detail)}`)),
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
