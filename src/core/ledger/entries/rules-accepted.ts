import * as z from 'zod';
import { approvedKey } from '../facts';
import { namedRulesSchema, productRulesSchema } from '../rules';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('rules-accepted'),
  /** The environment that they are accepted for. */
  environment: z.string(),
  ...namedRulesSchema.shape,
  /** The rules themselves, where the ledger did not have them yet. */
  rules: productRulesSchema.optional(),
  reason: z.string(),
  /** The signature of the person, or the issuer whose keys verified which job it was. */
  signature: z.string().optional(),
  issuer: z.string().optional(),
  /** Enough people accept them: they are in force for the environment from then on. */
  inForce: z.boolean().optional(),
});
type RulesAccepted = z.infer<typeof schema>;

/** Somebody accepts other rules for an environment than those in force. */
export const rulesAccepted = defineAction<RulesAccepted, typeof schema>('rules-accepted', {
  schema,
  reads: ({ environment, digest }) => [
    { kind: 'rules', key: digest },
    { kind: 'rules-approved', key: approvedKey(environment, digest) },
  ],
  fold(
    { environment, digest, commit, source, reason, signature, issuer, inForce, ...action },
    { at, actor, seq },
    before,
    after,
  ) {
    const rules = action.rules ?? before.get('rules', digest);
    if (action.rules !== undefined) {
      after.set('rules', digest, action.rules);
    }
    const key = approvedKey(environment, digest);
    const others = (before.get('rules-approved', key) ?? []).filter(({ by }) => by !== actor);
    // What is in force needs nobody's word any more; to bring it back later, people are asked anew.
    after.set('rules-approved', key, inForce === true ? [] : [...others, { by: actor, at, reason, signature, issuer }]);
    if (inForce === true && rules !== undefined) {
      after.set('rules-in-force', environment, { digest, commit, source, rules, seq });
    }
  },
});
