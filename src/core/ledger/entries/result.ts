import * as z from 'zod';
import { reportSummarySchema } from '../../reports/summary';
import { noEvidence } from '../facts';
import { contentIdSchema, releaseIdSchema } from '../release';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('result'),
  /** What was tested. */
  name: z.string(),
  passed: z.boolean(),
  /** Where: what the environment served then. */
  environment: z.string(),
  link: z.string().optional(),
  /** What a report says that it was read from. */
  report: reportSummarySchema.optional(),
  releases: z.array(z.object({ release: releaseIdSchema, content: contentIdSchema })),
});
type Result = z.infer<typeof schema>;

/** Something was found out about releases while an environment served them. */
export const result = defineAction<Result, typeof schema>('result', {
  schema,
  reads: ({ releases }) => releases.map(({ content }) => ({ kind: 'evidence', key: content })),
  fold({ name, passed, environment, link, report, releases }, { at, actor }, before, after) {
    for (const { content } of releases) {
      const known = before.get('evidence', content) ?? noEvidence;
      const others = known.results.filter((each) => each.name !== name || each.environment !== environment);
      const latest = { name, environment, passed, at, by: actor, link, report };
      after.set('evidence', content, { ...known, results: [...others, latest] });
    }
  },
});
