// Runs the built program again and again in one process, each time from its first line on and until nothing of it is left to do.
const { readdirSync, readFileSync, writeSync } = require('node:fs');
const { createRequire } = require('node:module');
const { join } = require('node:path');
const { setFlagsFromString } = require('node:v8');
const { constants, Script } = require('node:vm');

const [, , start] = process.argv;
const folder = join(start, '..');
const name = readdirSync(folder)
  .find((each) => /^program-\w+\.js$/.test(each))
  .slice(0, -3);
const filename = join(folder, `${name}.js`);

// As `start` does it.
setFlagsFromString('--liftoff-only');
const program = new Script(readFileSync(filename, 'latin1'), {
  filename,
  cachedData: readFileSync(join(folder, `${name}.code`)),
  importModuleDynamically: constants.USE_MAIN_CONTEXT_DEFAULT_LOADER,
}).runInThisContext();
const requireThere = createRequire(filename);

/** What listens to the process where no run does. */
const events = ['exit', 'SIGINT', 'SIGTERM', 'uncaughtException', 'unhandledRejection', 'warning'];
const standing = new Map(events.map((event) => [event, process.listeners(event)]));
let running;

process.on('message', (run) => {
  running = run;
  // Only what the run started keeps the process from its end.
  process.channel.unref();
  for (const key of Object.keys(process.env)) {
    delete process.env[key];
  }
  Object.assign(process.env, run.env);
  process.chdir(run.cwd);
  process.argv = [process.execPath, start, ...run.args];
  process.exitCode = undefined;
  program(requireThere, { exports: {} }, filename, folder);
});

process.on('disconnect', () => process.exit());
process.on('beforeExit', () => {
  if (running === undefined) {
    return;
  }
  const { id } = running;
  const code = process.exitCode ?? 0;
  running = undefined;
  for (const event of events) {
    const own = process.listeners(event).filter((each) => !standing.get(event).includes(each));
    own.forEach((listener) => {
      process.removeListener(event, listener);
      if (event === 'exit') {
        listener.call(process, code);
      }
    });
  }
  [process.stdout, process.stderr].forEach((stream) => stream.removeAllListeners());
  process.channel.ref();
  // What was closed is let go of, one turn later: a file of a ledger, above all.
  globalThis.gc();
  setImmediate(() => setImmediate(() => [1, 2].forEach((fd) => writeSync(fd, `\0end ${id} ${code}\0`))));
});
