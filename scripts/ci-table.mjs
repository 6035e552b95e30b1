// Writes the table of docs/pipelines.md that says which CIs are recognised, and from which variables of theirs each fact comes: what
// the program reads is asked with variables that hold their own names. `--check`: only says whether the table is so.
import { readFile, readdir, rm, writeFile } from 'node:fs/promises';
import { pathToFileURL } from 'node:url';
import { build } from 'esbuild';
import { format, resolveConfig } from 'prettier';

const root = new URL('..', import.meta.url).pathname;
const page = `${root}docs/pipelines.md`;
const [begin, end] = ['<!-- made by npm run ci-table -->', '<!-- end of the table -->'];

/** What variables hold in the job of a pull request, where their name alone says nothing; the number stands for the variable. */
const inPullRequest = {
  GITHUB_EVENT_NAME: 'pull_request',
  GITHUB_REF: 'refs/pull/900001/merge',
  CODEBUILD_WEBHOOK_TRIGGER: 'pr/900002',
  CI_PIPELINE_EVENT: 'pull_request',
  CI_BUILD_EVENT: 'pull_request',
  DRONE_BUILD_EVENT: 'pull_request',
  VELA_BUILD_EVENT: 'pull_request',
  VELA_PULL_REQUEST: '1',
  SEMAPHORE_GIT_REF_TYPE: 'pull-request',
  SCREWDRIVER_PR: 'SD_PULL_REQUEST',
  BUILDKITE_PULL_REQUEST: 'BUILDKITE_PULL_REQUEST',
};
const numbers = { 900001: 'GITHUB_REF', 900002: 'CODEBUILD_WEBHOOK_TRIGGER' };
/** Variables that must look like an address. */
const always = { REPOSITORY_URL: 'https://git.test/skerry/line' };
/** What variables hold in the job of a tag. */
const ofTag = {
  CODEBUILD_WEBHOOK_TRIGGER: 'tag/CODEBUILD_WEBHOOK_TRIGGER',
  GITHUB_REF: 'refs/tags/GITHUB_REF',
  BUILD_SOURCEBRANCH: 'refs/tags/BUILD_SOURCEBRANCH',
};

async function bundled(contents) {
  const outfile = `${root}dist/ci-table.mjs`;
  await build({
    stdin: { contents, resolveDir: root },
    ...{ outfile, bundle: true, format: 'esm', platform: 'node', logLevel: 'error' },
    banner: { js: "import { createRequire } from 'node:module'; const require = createRequire(import.meta.url);" },
  });
  const found = await import(pathToFileURL(outfile));
  await rm(outfile);
  return found;
}

/** Variables that hold their own names; `set`: what some hold instead. Takes note of what is asked for. */
function variables(set, hidden, asked) {
  return new Proxy(
    {},
    {
      get: (_, name) => {
        asked.add(name);
        return hidden.has(name) ? undefined : (set[name] ?? always[name] ?? String(name));
      },
    },
  );
}

/** The variables that stand in a text. */
function namesIn(text, asked) {
  const words = String(text ?? '').match(/[A-Za-z][A-Za-z0-9_]*|\d+/g) ?? [];
  return [...new Set(words.map((word) => numbers[word] ?? word))].filter((word) => asked.has(word));
}

/** What the program takes from the variables of a CI. */
function factsOf(service, ciFacts, { set = {}, hidden = new Set() } = {}) {
  const asked = new Set();
  const env = variables(set, hidden, asked);
  const reading = service.configuration({ env, cwd: '/' });
  const { buildUrl, jobUrl, ...rest } = reading;
  const facts = ciFacts({ isPr: false, ...rest, run: buildUrl ?? jobUrl }, (name) => env[name]);
  return { reading, facts, run: buildUrl ?? jobUrl, asked };
}

/** The variables by which a CI tells of a pull request. */
function pullRequestNames(service, ciFacts, set) {
  const hidden = new Set();
  for (;;) {
    const found = factsOf(service, ciFacts, { set, hidden });
    const own = found.facts.pullRequest ? namesIn(`${found.reading.pr} ${found.facts.branch}`, found.asked) : [];
    if (own.every((name) => hidden.has(name))) {
      return hidden;
    }
    own.forEach((name) => hidden.add(name));
  }
}

/** What the program takes from the variables of a CI in the job of a branch. */
function factsOfBranch(service, ciFacts, set) {
  return factsOf(service, ciFacts, { set, hidden: pullRequestNames(service, ciFacts, set) });
}

function detectedBy(service) {
  const asked = new Set();
  service.detect({ env: variables({}, new Set(), asked) });
  return [...asked];
}

const cell = (names) => (names.length === 0 ? '–' : names.map((name) => `\`${name}\``).join(' '));

function rowOf(service, ciFacts) {
  const branch = factsOfBranch(service, ciFacts, {});
  const tagNames = ['TAG_NAME', ...namesIn(branch.facts.tag, branch.asked)];
  const untagged = factsOf(service, ciFacts, {
    hidden: new Set([...tagNames, ...pullRequestNames(service, ciFacts, {})]),
  });
  const tagged = factsOfBranch(service, ciFacts, ofTag);
  const pull = factsOf(service, ciFacts, { set: inPullRequest });
  return [
    branch.reading.name,
    cell(detectedBy(service)),
    cell(namesIn(branch.facts.commit, branch.asked)),
    cell(namesIn(untagged.facts.branch, untagged.asked)),
    cell(namesIn(tagged.facts.tag, tagged.asked)),
    cell(pull.facts.pullRequest ? namesIn(pull.facts.branch?.replace(/^pr-/, ''), pull.asked) : []),
    cell(namesIn(branch.facts.build, branch.asked)),
    cell(namesIn(branch.run, branch.asked)),
  ];
}

async function table() {
  const folder = `${root}node_modules/env-ci/services`;
  const files = (await readdir(folder)).filter((name) => name.endsWith('.js') && name !== 'git.js').sort();
  const { services, ciFacts } = await bundled(
    [
      ...files.map((name, at) => `import service${at} from './node_modules/env-ci/services/${name}';`),
      `export const services = [${files.map((_, at) => `service${at}`).join(', ')}];`,
      "export { ciFacts } from './src/core/build/ci-facts';",
    ].join('\n'),
  );
  const rows = services.map((service) => rowOf(service, ciFacts)).sort(([a], [b]) => (a < b ? -1 : 1));
  const head = ['CI', 'recognised by', 'commit', 'branch', 'git tag', 'pull request', 'build number', 'run'];
  return [head, head.map(() => '---'), ...rows].map((cells) => `| ${cells.join(' | ')} |`).join('\n');
}

const before = await readFile(page, 'utf8');
const [start, stop] = [before.indexOf(begin), before.indexOf(end)];
const text = `${before.slice(0, start + begin.length)}\n\n${await table()}\n\n${before.slice(stop)}`;
const after = await format(text, { ...(await resolveConfig(page)), filepath: page });
if (process.argv.includes('--check')) {
  process.exitCode = after === before ? 0 : 1;
} else {
  await writeFile(page, after);
}
