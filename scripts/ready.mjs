// Makes a clone ready to use: installs what is missing and builds what is stale. Needs only Node.js.
import { execFileSync } from 'node:child_process';
import { readdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

process.chdir(fileURLToPath(new URL('..', import.meta.url)));
const changed = (path) => statSync(path, { throwIfNoEntry: false })?.mtimeMs ?? 0;
const newest = (folder) =>
  Math.max(...readdirSync(folder, { recursive: true }).map((name) => changed(join(folder, name))));

if (changed('node_modules/.package-lock.json') < changed('package-lock.json')) {
  console.error('Installing what Hod is built with …');
  execFileSync('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error'], {
    stdio: ['ignore', 'ignore', 'inherit'],
  });
}
if (changed('dist/hod.js') < Math.max(newest('src'), newest('scripts'), changed('package.json'))) {
  console.error('Building Hod …');
  execFileSync(process.execPath, ['scripts/build.mjs'], { stdio: ['ignore', 'inherit', 'inherit'] });
}
