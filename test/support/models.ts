import type { Model, WorldSeed } from '../models/model';

/**
 * Plays the same random worlds each time, and those that once were not as the model says. The hostile tests play many more.
 *
 * @param worlds How many.
 * @param found The seeds of worlds in which a defect was found, of Hod or of the model.
 */
export function testModel(create: () => Model, worlds: number, found: readonly WorldSeed[] = []): void {
  const model = create();
  for (const world of found) {
    test(`${model.name}: the world of seed ${world.seed} ${world.path ?? ''}`, () => model.play(world));
  }
  test(`${model.name}: worlds are as the model says`, async () => {
    for (let seed = 1; seed <= worlds; seed += 1) {
      await play(model, { seed });
    }
  });
}

/** Plays a world. Throws an error that says how to play it again. */
export async function play(model: Model, world: WorldSeed): Promise<void> {
  await model.play(world).catch((error: unknown) => {
    throw new Error(`npm run worlds -- --model ${model.name} --seed ${world.seed}`, { cause: error });
  });
}
