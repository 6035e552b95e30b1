import { execFile, execFileSync } from 'node:child_process';
import { mkdir, mkdtemp, readdir, readFile, rm, symlink } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { dirname, join, resolve } from 'node:path';
import { promisify } from 'node:util';

const root = resolve(__dirname, '../..');
const run = promisify(execFile);

test('the packed archive, installed into an empty prefix with nothing but Node.js, runs the demo there', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-install-'));
  try {
    const npm = (...args: string[]) =>
      run('npm', args, { cwd: folder, env: { ...process.env, npm_config_cache: join(folder, 'cache') } });
    // What the tests run is packed as it is: building anew would take it from under their feet.
    await npm('pack', root, '--ignore-scripts', '--pack-destination', folder);
    const [archive = ''] = (await readdir(folder)).filter((name) => name.endsWith('.tgz'));
    const files = execFileSync('tar', ['-tzf', join(folder, archive)], { encoding: 'utf8' })
      .trim()
      .split('\n');
    expect(
      files.filter((name) => /^package\/(test|bench|src|scripts|node_modules)\/|\.map$|\.png$/.test(name)),
    ).toEqual([]);
    expect(files).toEqual(
      expect.arrayContaining([
        'package/dist/hod.js',
        'package/dist/LICENCES.txt',
        'package/LICENSE',
        'package/README.md',
      ]),
    );
    const about = JSON.parse(
      execFileSync('tar', ['-xzOf', join(folder, archive), 'package/package.json'], { encoding: 'utf8' }),
    ) as { dependencies: object };
    // All else is in the bundle.
    expect(Object.keys(about.dependencies)).toEqual(['libsql']);

    const prefix = join(folder, 'prefix');
    await npm('install', '--global', '--ignore-scripts', '--prefix', prefix, join(folder, archive));
    // A machine with Node.js, git and nothing else of ours.
    const bin = join(folder, 'bin');
    await mkdir(bin);
    await symlink(process.execPath, join(bin, 'node'));
    await symlink(execFileSync('sh', ['-c', 'command -v git'], { encoding: 'utf8' }).trim(), join(bin, 'git'));
    const env = { PATH: `${join(prefix, 'bin')}:${bin}`, HOME: folder, TMPDIR: folder };
    const hod = (...args: string[]) => run(join(prefix, 'bin', 'hod'), args, { cwd: folder, env });
    expect((await hod('--version')).stdout).toMatch(/^\d+\.\d+\.\d+ \(commit [0-9a-f]{12}(, with changes)?\)\n$/);
    expect((await hod('demo', '--folder', join(folder, 'demo'))).stdout).toContain('prod');
    const licences = await readFile(join(dirname(await installed(prefix)), 'LICENCES.txt'), 'utf8');
    expect(licences).toMatch(/^undici \d.*\(MIT\)$/m);
  } finally {
    await rm(folder, { recursive: true, force: true });
  }
});

/** Where the program of an installation is. */
async function installed(prefix: string): Promise<string> {
  const modules = join(prefix, 'lib', 'node_modules');
  const [name = ''] = await readdir(modules);
  return join(modules, name, 'dist', 'hod.js');
}
