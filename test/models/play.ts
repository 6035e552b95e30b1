import { appendFile } from 'node:fs/promises';
import { parseArgs } from 'node:util';
import { models } from '.';
import type { Model, WorldSeed } from './model';

/** Plays random worlds of all models, or of one, for so many minutes, or the world of one seed. Run by scripts/worlds.mjs. */
const { values } = parseArgs({
  options: {
    minutes: { type: 'string', default: '1' },
    model: { type: 'string' },
    seed: { type: 'string' },
    path: { type: 'string' },
    found: { type: 'string', default: 'worlds-found.txt' },
  },
});
const chosen = models
  .map((create) => create())
  .filter(({ name }) => values.model === undefined || name === values.model);
const counts = new Map(chosen.map(({ name }) => [name, { played: 0, found: 0 }]));

async function play(model: Model, world: WorldSeed): Promise<void> {
  const count = counts.get(model.name) ?? { played: 0, found: 0 };
  count.played += 1;
  try {
    await model.play(world);
  } catch (error) {
    count.found += 1;
    const again = `npm run worlds -- --model ${model.name} --seed ${world.seed}${world.path ? ` --path ${world.path}` : ''}`;
    await appendFile(
      values.found,
      `${again}\n${error instanceof Error ? (error.stack ?? error.message) : String(error)}\n\n`,
    );
    process.stderr.write(`not as the model says: ${again}\n`);
    process.exitCode = 1;
  }
}

async function main(): Promise<void> {
  if (values.seed !== undefined) {
    const world = { seed: Number(values.seed), ...(values.path === undefined ? {} : { path: values.path }) };
    for (const model of chosen) {
      await play(model, world);
    }
  } else {
    const end = performance.now() + Number(values.minutes) * 60_000;
    while (performance.now() < end) {
      for (const model of chosen) {
        await play(model, { seed: Math.floor(Math.random() * 2 ** 31) });
      }
    }
  }
  for (const [name, { played, found }] of counts) {
    process.stdout.write(`${name}: ${played} worlds, ${found} not as the model says\n`);
  }
}

void main();
