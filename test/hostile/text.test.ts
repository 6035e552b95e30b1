import { execFileSync } from 'node:child_process';
import { appendFile, mkdir, writeFile } from 'node:fs/promises';
import { create } from 'tar';
import type { ErrorCode } from '../../src/core/errors';
import { ciVariables } from '../support/ci-variables';
import { tarHeader } from '../support/archives';
import { answering, Content, either, is, types } from './content';
import type { Spoil } from './network';
import { host, known, type Scene } from './scene';
import { evil, hostile, type HostileCase } from './table';

/** Text from outside that acts on a terminal, forges lines, or breaks a table. What may not appear, the table knows. */

const show = ['show', known];
/** A terminal is what such text is for; that documents escape it too is seen for each kind of place. */
const text = { forms: ['text'] } as const;
const both = { forms: ['text', 'json'] } as const;
/** What a header can hold of it. */
const evilHeader = '\u009b31m\u0085hod: Published 9.9.9\u0090';
const errors = JSON.stringify({ errors: [{ code: evil, message: evil }] });

const saying = (
  name: string,
  spoil: Spoil,
  exit: number,
  code: ErrorCode,
  more: Partial<HostileCase> = {},
): HostileCase => ({
  name: `in ${name}`,
  attack: ({ network }) => network.at(host.dev, spoil),
  run: show,
  exit,
  code,
  ...text,
  ...more,
});
const bearer = (realm: string): Record<string, string> => ({ 'www-authenticate': `Bearer realm="${realm}"` });

/** Shows an image of which something is evil. */
const shown = (name: string, make: (content: Content) => ReturnType<Content['image']>): HostileCase => ({
  name: `in ${name}`,
  attack: ({ network }) => {
    const content = new Content();
    content.tag('1', make(content));
    network.at(host.dev, content.serve);
  },
  run: ['show', `${host.dev}/any/thing:1`],
  exit: 0,
  ...text,
});

const failing = (
  name: string,
  attack: (scene: Scene) => unknown,
  run: HostileCase['run'],
  exit: number,
  code?: ErrorCode,
): HostileCase => ({ name: `in ${name}`, attack, run, exit, ...(code === undefined ? {} : { code }), ...text });

const fromRegistries: HostileCase[] = [
  saying(
    'the words of a refusal',
    answering(is.all, 403, {}, JSON.stringify({ errors: [{ code: 'DENIED', message: evil }] })),
    5,
    'no-right',
    both,
  ),
  saying('the words of a fault', answering(is.reading, 418, {}, errors), 6, 'answer-unexpected', {
    run: ['promote', 'uat'],
  }),
  saying('a place that it leads to', answering(is.resolving, 307, { location: evilHeader }), 6, 'answer-unexpected'),
  saying(
    'the type of a manifest',
    answering(is.resolving, 200, { 'content-type': `application/${evilHeader}` }, '{}'),
    7,
    'manifest-corrupt',
  ),
  saying('the digest of a manifest', answering(is.asking, 200, { 'docker-content-digest': evilHeader }), 0, 'defect'),
  saying('a challenge', answering(is.all, 401, bearer(`https://${evilHeader}/`)), 5, 'login-needed'),
  saying(
    'the name of a token service',
    answering(is.all, 401, bearer(`http://tokens.test/${evilHeader}`)),
    5,
    'login-needed',
  ),
  saying(
    'the link of a list',
    answering(is.listing, 200, { link: `<${evilHeader}` }, '{"tags":[]}'),
    6,
    'answer-unexpected',
    {
      attack: async (scene) => {
        await scene.forget();
        scene.network.at(
          host.dev,
          answering(is.listing, 200, { link: `<https://[${evilHeader}>; rel="next"` }, '{"tags":[]}'),
        );
      },
      run: ['publish', '--next', 'minor'],
    },
  ),
  saying('tags', answering(is.listing, 200, {}, JSON.stringify({ tags: [evil, '1.0.0'] })), 0, 'defect', {
    attack: async (scene) => {
      await scene.forget();
      await scene.nextVersion();
      scene.network.at(host.dev, answering(is.listing, 200, {}, JSON.stringify({ tags: [evil, '1.0.0'] })));
    },
    run: ['publish', '--next', 'minor', '--dry-run'],
  }),
  {
    name: 'in the words of a token service',
    attack: (scene) => {
      scene.network.at(host.dev, answering(is.all, 401, bearer('https://tokens.registry.test/')));
      scene.network.at(
        'tokens.registry.test',
        answering(is.all, 403, {}, JSON.stringify({ errors: [{ message: evil }] })),
      );
    },
    run: show,
    exit: 5,
    code: 'login-needed',
    ...text,
  },
  {
    name: 'in a token',
    attack: (scene) => {
      scene.network.at(host.dev, answering(is.all, 401, bearer('https://tokens.registry.test/')));
      scene.network.at('tokens.registry.test', answering(is.all, 200, {}, JSON.stringify({ token: evil })));
    },
    run: show,
    exit: 6,
    code: 'token-missing',
    ...text,
  },
  // What is no media type is refused, with the path of the field.
  {
    ...shown('the type of a layer', (content) => content.image({}, {}, { mediaType: `application/${evil}` })),
    exit: 7,
    code: 'manifest-corrupt',
  },
  { ...shown('annotations', (content) => content.image({ annotations: { [evil]: evil } })), ...both },
  shown('annotations of an index', (content) => content.index([content.image()], { annotations: { [evil]: evil } })),
  shown('the revision', (content) => content.image({ annotations: { 'org.opencontainers.image.revision': evil } })),
  shown('a config', (content) =>
    content.image({}, { author: evil, config: { Labels: { [evil]: evil }, Cmd: [evil] } }),
  ),
  {
    ...shown('an artifact type', (content) => content.image({ artifactType: evil })),
    exit: 7,
    code: 'manifest-corrupt',
  },
  {
    ...shown('how it is run and was made', (content) =>
      content.image(
        {},
        {
          created: evil,
          config: {
            Entrypoint: [evil],
            User: evil,
            WorkingDir: evil,
            Env: [`A=${evil}`],
            ExposedPorts: { [evil]: {} },
          },
          history: [{ created_by: evil, comment: evil }],
        },
      ),
    ),
    ...both,
  },
  {
    ...shown('names of files', (content) => {
      const layer = Buffer.concat([
        tarHeader(evil.slice(0, 99), '0', 0),
        tarHeader(`a/${evil.slice(0, 90)}`, '2', 0),
        tarHeader(`id_rsa${evil.slice(0, 80)}/.netrc`, '0', 0),
        Buffer.alloc(1024),
      ]);
      return content.image({}, {}, content.add(types.layer, layer));
    }),
    run: ['inside', `${host.dev}/any/thing:1`, '--list'],
    ...both,
  },
  {
    name: 'in names of repositories',
    attack: ({ network }) =>
      network.at(
        host.dev,
        answering(
          (_, url) => url.includes('_catalog'),
          200,
          {},
          JSON.stringify({ repositories: [evil, 'skerry/timetable'] }),
        ),
      ),
    run: ['repositories', host.dev],
    exit: 0,
    ...both,
  },
  {
    name: 'in tags',
    attack: ({ network }) => {
      const content = new Content();
      content.tag('1.0.0', content.image({ annotations: { 'org.opencontainers.image.revision': evil } }));
      const list = answering((_, url) => url.includes('tags/list'), 200, {}, JSON.stringify({ tags: [evil, '1.0.0'] }));
      network.at(host.dev, either(list, content.serve));
    },
    run: ['tags', `${host.dev}/any/thing`],
    exit: 0,
    ...both,
  },
  shown('a reference name', (content) =>
    content.index([{ ...content.image(), annotations: { 'org.opencontainers.image.ref.name': evil } }]),
  ),
  shown('a platform', (content) =>
    content.index([{ ...content.image(), platform: { os: evil, architecture: evil, variant: evil } }]),
  ),
];

/** A publication of which everything that may be said is evil. */
const evilBuild = [
  'publish',
  '--branch',
  `x${evil}`,
  '--build',
  evil,
  '--run-url',
  `https://ci.test/${evil}`,
  '--actor',
  evil,
];

const layoutOf = async (scene: Scene, name: string, index: (content: Content) => object): Promise<void> => {
  const content = new Content();
  const document = index(content);
  await content.write(scene.in('out', name), document);
};
const refName = 'org.opencontainers.image.ref.name';

const fromFiles: HostileCase[] = [
  failing(
    'names of a layout',
    (scene) =>
      layoutOf(scene, 'named', (content) => ({
        schemaVersion: 2,
        manifests: [evil, `${evil}2`].map((name) => ({
          ...content.image({ annotations: { name } }),
          annotations: { [refName]: name },
        })),
      })),
    ['assemble', `${host.dev}/x/y`, 'out/named'],
    4,
    'output-ambiguous',
  ),
  failing(
    'the type of an entry of a layout',
    (scene) =>
      layoutOf(scene, 'typed', (content) => ({
        schemaVersion: 2,
        manifests: [{ ...content.image(), mediaType: evil }],
      })),
    ['assemble', `${host.dev}/x/y`, 'out/typed'],
    7,
    'layout-corrupt',
  ),
  failing(
    'names in a tar',
    async (scene) => {
      const names = [`x${evil.replaceAll('/', '')}`];
      await mkdir(scene.in('out', 'packed'));
      await Promise.all(names.map((name) => writeFile(scene.in('out', 'packed', name), 'x')));
      await create({ file: scene.in('out', 'packed.tar'), cwd: scene.in('out', 'packed') }, names);
    },
    ['assemble', `${host.dev}/x/y`, 'out/packed.tar'],
    4,
    'output-unrecognised',
  ),
  failing('a path', () => undefined, ['assemble', `${host.dev}/x/y`, `out/${evil}`], 4, 'image-missing'),
  failing('a reference', () => undefined, ['show', `${host.dev}/${evil}`], 4, 'image-missing'),
  failing('an option', () => undefined, ['publish', `--${evil}`], 2, 'command-line'),
  failing('a command', () => undefined, [evil], 2, 'command-line'),
  failing('an environment', () => undefined, ['promote', evil], 2, 'environment-unknown'),
  failing('an image', () => undefined, ['publish', evil], 2, 'component-unknown'),
  failing('a version', () => undefined, ['publish', '--version', evil], 2, 'not-a-version'),
  failing('a commit', () => undefined, ['publish', '--commit', evil], 2, 'not-a-commit'),
  failing('a folder of configuration', () => undefined, ['status', '--config', `${evil}.yaml`], 2, 'config-missing'),
  failing(
    'keys of hod.yaml',
    (scene) => scene.configure(`${JSON.stringify(evil)}: ${JSON.stringify(evil)}`),
    ['config', 'check'],
    2,
    'config-invalid',
  ),
  failing(
    'hosts of hod.yaml',
    (scene) => scene.configure(`registries: { ${JSON.stringify(evil)}: { tls: false } }`),
    ['config', 'check'],
    2,
    'config-invalid',
  ),
  failing(
    'names of images',
    (scene) => scene.configure(`images: { ${JSON.stringify(evil)}: { from: x } }`, /^images.*$/m),
    ['config', 'check'],
    2,
    'config-invalid',
  ),
  failing(
    'a path of hod.yaml',
    (scene) => scene.configure(`from: ${JSON.stringify(evil)}`, 'from: out/tide-watch'),
    ['publish', '--version', '2.0.0'],
    4,
    'output-missing',
  ),
  failing('a branch', (scene) => scene.nextVersion(), [...evilBuild, '--dry-run'], 0),
  {
    ...failing(
      'what is recorded, and read again',
      async (scene) => {
        await scene.nextVersion();
        expect((await scene.hod(...evilBuild)).code).toBe(0);
      },
      ['status', '--verbose'],
      0,
    ),
    ...both,
  },
  {
    ...failing(
      'a tag of git',
      (scene) => {
        execFileSync('git', ['tag', '\u202ev9.9.9'], { cwd: scene.in() });
      },
      ['touched', '--since', '\u202ev9.9.9'],
      0,
    ),
  },
  failing('a revision of git', () => undefined, ['touched', '--since', evil], 4, 'changes-unknown'),
  {
    name: 'in variables of a CI',
    attack: async (scene) => {
      await scene.nextVersion();
      Object.assign(scene.env, ciVariables({ branch: evil, build: evil, run: evil }));
    },
    run: ['publish', '--dry-run', '--verbose'],
    exit: 0,
    ...both,
  },
  {
    name: 'in what a credential command says',
    attack: async (scene) => {
      const file = await scene.writeSecret('say.mjs', `console.error(${JSON.stringify(evil)}); process.exit(3)`);
      await scene.configure(`registries: { ${host.dev}: { credentials: { command: [node, ${file}] } } }`);
      scene.network.at(host.dev, answering(is.all, 401, { 'www-authenticate': 'Basic realm="x"' }));
    },
    run: show,
    exit: 5,
    code: 'command-failed',
    ...text,
  },
  ...['iss', 'sub', 'aud'].map((claim): HostileCase => ({
    name: `in the claim ${claim} of a job token`,
    attack: async (scene) => {
      const claims = { iss: 'i', sub: 's', aud: 'a', exp: 4e9, [claim]: evil };
      const body = Buffer.from(JSON.stringify(claims)).toString('base64url');
      scene.env['JOB_TOKEN'] = `e30.${body}.c2lnbmF0dXJl`;
      const job = 'credentials: { job: { token: { env: JOB_TOKEN }, exchange: "https://tokens.registry.test/x" } }';
      await scene.configure(`registries: { ${host.dev}: { ${job} } }`);
      scene.network.at(host.dev, answering(is.all, 401, { 'www-authenticate': 'Basic realm="x"' }));
      scene.network.at(
        'tokens.registry.test',
        answering(
          is.all,
          400,
          {},
          JSON.stringify({ error: 'invalid_target', error_description: evil, expected: evil }),
        ),
      );
    },
    run: show,
    exit: 5,
    code: 'identity-other-audience',
    ...text,
  })),
  {
    name: 'in a summary for people: neither rows nor markup are made',
    attack: async (scene) => {
      await scene.nextVersion();
      await scene.write('summary.md', '');
    },
    run: [
      'publish',
      '--branch',
      'a|b<script>`x`\n# Published 9.9.9',
      '--summary',
      'summary.md',
      '--outputs',
      'outputs',
    ],
    exit: 0,
    tagged: [`${host.dev}/dev/tide-watch:1.1.0`, `${host.dev}/dev/tide-watch:a-b-script--x----Published-9.9.9-vysrxs`],
    after: async (scene) => {
      const summary = await scene.read('summary.md');
      expect(summary).not.toMatch(/<script|^# Published|[^\\]\|b/m);
      expect(await scene.read('outputs')).toMatch(/^([A-Z_]+=[^\n]*\n)+$/);
    },
  },
  {
    name: 'in entries to import',
    attack: async (scene) => {
      expect((await scene.hod('ledger', 'export', 'entries')).code).toBe(0);
      await appendFile(scene.in('entries'), `{"${evil}":1}\n`);
    },
    run: ['ledger', 'import', 'entries'],
    exit: 7,
    code: 'ledger-entry-corrupt',
    ...text,
  },
];

hostile('what a registry says does not act', fromRegistries);
hostile('what files, variables and arguments say does not act', fromFiles);
