import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { configure, folder, inMegabytes, inSeconds, quick, report, runHod, withRegistry } from './harness.mjs';
import { runBundled } from './ledgers.mjs';

/** So many tags are in so many repositories, and each keeps half of them. */
const repositories = quick ? 20 : 200;
const [tags, kept] = [100, 50];

/** What it takes to say what may go from many repositories, and to remove it. */
export async function measureTidying() {
  const path = join(folder, 'tidying');
  const names = Array.from({ length: repositories }, (_, at) => `image-${at}`);
  await withRegistry(async (port) => {
    const dev = `localhost:${port}`;
    configure(path, Object.fromEntries(names.map((name) => [name, 'out'])), dev, 'uat.skerry.test');
    const file = join(path, 'hod.yaml');
    writeFileSync(file, readFileSync(file, 'utf8').replace('dev: {', `dev: { keep: { releases: ${kept} },`));
    mkdirSync(join(path, '.hod'));
    await runBundled('tidy-product.ts', join(path, '.hod', 'ledger.db'), dev, String(repositories), String(tags));
    const work = `${repositories * tags} tags in ${repositories} repositories`;
    const going = repositories * (tags - kept);
    for (const [what, ...args] of [
      ['what may go', 'tidy'],
      ['remove half', 'tidy', '--remove'],
    ]) {
      const { seconds, peak, document } = runHod(path, ...args);
      const goes = document.repositories.flatMap((each) => each.goes);
      if (goes.length !== going || (args.length > 1 && goes.some(({ outcome }) => outcome !== 'removed'))) {
        throw new Error(`${what}: ${goes.length} of ${going} digests`);
      }
      const measured = `${inSeconds(seconds)}, ${document.requests} requests`;
      report(`tidy, ${work}: ${what}`, '–', measured, `${(document.requests / going).toFixed(1)} a digest`, '–');
      report('peak memory of that', '–', inMegabytes(peak), '–', '–');
    }
  });
}
