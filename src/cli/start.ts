import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { setFlagsFromString } from 'node:v8';
import { constants, Script } from 'node:vm';

/** The file that holds the program, without its ending; the build names it after its content. */
declare const HOD_PROGRAM: string;
/** The version, and the commit that was built. */
declare const HOD_VERSION: string;

if (process.argv.length === 3 && process.argv[2] === '--version') {
  // The program would say the same, after it was loaded.
  process.stdout.write(`${HOD_VERSION}\n`);
} else {
  start();
}

/** Loads the program, which runs the command line. */
function start(): void {
  // undici parses HTTP in WebAssembly. To compile that a second time, optimised, takes 30 MB and saves nothing to
  // speak of. It is said before anything is loaded, as compiled code is good for one set of flags only.
  setFlagsFromString('--liftoff-only');
  const filename = join(__dirname, `${HOD_PROGRAM}.js`);
  const source = read(filename);
  if (source === undefined) {
    process.stderr.write(
      `hod: the program cannot be read\n  object ${filename}\n  why    it is not there, or not to be read by this user\n` +
        '  next   install Hod again\n',
    );
    process.exitCode = 6;
    return;
  }
  const program: unknown = new Script(source.toString('latin1'), {
    filename,
    // Another Node.js than the one that built Hod does not take it, and compiles what it needs: slower, and no otherwise.
    cachedData: read(join(__dirname, `${HOD_PROGRAM}.code`)),
    importModuleDynamically: constants.USE_MAIN_CONTEXT_DEFAULT_LOADER,
  }).runInThisContext();
  if (typeof program === 'function') {
    Reflect.apply(program, undefined, [require, module, filename, __dirname]);
  }
}

function read(file: string): Buffer | undefined {
  try {
    return readFileSync(file);
  } catch {
    return undefined;
  }
}
