import { models } from '../models';
import { seed } from '../support/random';
import { play } from '../support/models';

/** Of each model; `npm run worlds` plays for as long as it is told. */
const worlds = Number(process.env['HOD_WORLDS'] ?? 100);

test.each(models.map((create) => create()))('$name: random worlds are as the model says', async (model) => {
  for (let at = 0; at < worlds; at += 1) {
    await play(model, { seed: seed + at });
  }
  if (worlds >= 40) {
    model.expectCovered();
  }
});
