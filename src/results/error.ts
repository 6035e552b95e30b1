import * as z from 'zod';
import { allErrorCodes, exitCodes, faults, type HodError } from '../core/errors';
import { Refusal } from '../core/release/refusal';
import { joinLines, type Text } from '../core/text';
import { gateResult, toGateResult } from './common';

/** What every command answers with `--json` when it fails. */
export const errorResultSchema = z.strictObject({
  error: z.strictObject({
    /** See docs/errors.md. */
    code: z.enum(allErrorCodes),
    fault: z.enum(faults),
    exitCode: z.number().int(),
    what: z.string(),
    object: z.string().nullable(),
    /** The release that a digest in the error is of; null where there is none, or no ledger was open that knows it. */
    release: z.string().nullable(),
    why: z.string().nullable(),
    next: z.string().nullable(),
    /** The rules that say no, where it was refused by rules. */
    gates: z.array(gateResult.extend({ code: z.enum(allErrorCodes) })),
  }),
});
export type ErrorResult = z.infer<typeof errorResultSchema>;

function lines(text: Text | undefined): string | null {
  return text === undefined ? null : joinLines(text);
}

export function toErrorResult(error: HodError): ErrorResult {
  const { what, object, release, why, next } = error.problem;
  const unmet = error instanceof Refusal ? error.gates : [];
  return {
    error: {
      code: error.code,
      fault: error.fault,
      exitCode: exitCodes[error.fault],
      what,
      object: lines(object),
      release: release ?? null,
      why: lines(why),
      next: lines(next),
      gates: unmet.map((gate) => ({ ...toGateResult(gate), code: gate.code })),
    },
  };
}
