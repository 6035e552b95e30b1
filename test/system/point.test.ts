import { chmod, mkdir, readFile, stat, symlink, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { hod, hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
let digests: Map<string, string>;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  await world.publish();
  await world.promote('uat');
  const { components } = await world.promote('prod');
  digests = new Map(components.map(({ component, digest }) => [component, digest]));
  await mkdir(at('deploy'));
});
afterAll(() => sandbox.close());

const at = (...names: string[]) => join(sandbox.world.product.folder, ...names);
const repository = (component: string, environment: 'uat' | 'prod' = 'prod') =>
  sandbox.world.repository(environment, component);
const pointed = (component: string) => `${repository(component)}@${digests.get(component) ?? ''}`;

/**
 * Deployment files of the usual formats. `<image>` is a reference; `<image#>` one that a comment with the version follows, and
 * `<image+tag>` a repository, whose tag and digest stand in `<image.tag>` and `<image.digest>`.
 */
const files: Record<string, string> = {
  'deployment.yaml':
    'apiVersion: apps/v1\nkind: Deployment\nspec:\n  template:\n    spec:\n      containers:\n        - name: timetable\n          image: <timetable#>\n          ports: [{ containerPort: 8080 }]\n',
  'documents.yaml':
    '# two services\n---\nimage: "<timetable#>"\n---\nkind: Job\nspec:\n    image:   \'<tide-watch#>\'   \n...\n---\nnothing: here\n',
  'crlf.yaml': 'services:\r\n  gate:\r\n    image: <boarding-gate#>\r\n    restart: always\r\n',
  'bom.yaml': '\ufeffimage: <timetable#>\n',
  'no-newline.yaml': 'image: <timetable#>',
  'flow.yaml': 'containers: [{ name: a, image: <timetable> }, { image: "<tide-watch>" }] # both\n',
  'anchors.yaml': 'base: &image <timetable#>\nuse: *image\nother: !tag <tide-watch#>\n',
  'block.yaml':
    'script: |\n  run --image <timetable> --now\n  run <tide-watch>\nfolded: >-\n  <boarding-gate>\n  and more\nimage: <timetable#>\n',
  'commented.yaml': 'image: <timetable> # do not touch\nother: <tide-watch> #keep\n# image: ignored\n',
  'list.yaml': 'images:\n- <timetable#>\n-   "<boarding-gate#>"\n- debian:12\n',
  'compose.yml':
    'services:\n  timetable:\n    image: ${IMAGE:-<timetable>}\n    depends_on:\n    - db\n  db:\n    image: database:15\n\n\n',
  'values.yaml':
    'timetable:\n  image:\n    repository: <timetable+tag>\n    tag: <timetable.tag>\n    pullPolicy: Always\n',
  'values-digest.yaml':
    'image:\n  digest: "<tide-watch.digest>"\n  repository: <tide-watch+tag>\n  tag: "<tide-watch.name>"\n',
  'overlay.yaml':
    'images:\n- name: timetable\n  newName: <timetable+tag>\n  digest: <timetable.digest>\n- name: other\n  newTag: v1\n',
  'deployment.json': '{\n\t"image": "<timetable>",\n\t"n": 1.0e3, "twice": ["<tide-watch>", "<tide-watch>"]\n}\n',
  'compact.json': '{"containers":[{"image":"<timetable>"},{"image":"<boarding-gate>"}],"a":"\\u00e9"}',
  'task.json': '[\r\n  {"containerDefinitions": [{"image": "<timetable>", "cpu": 10}]}\r\n]',
  'images.env': 'TIMETABLE=<timetable>\nexport TIDE="<tide-watch>"\n\n# end\n',
  Dockerfile: 'FROM <timetable> AS base\nCOPY --from=<tide-watch> /app /app\n',
  'main.tf': 'resource "service" "a" {\n  image = "<timetable#>"\n  env   = ["X=<tide-watch>"]\n}\n',
  'job.hcl': 'task "gate" {\n  config { image = "<boarding-gate>" }\n}\n',
  'deploy.sh': "#!/bin/sh\nset -e\nrun <timetable>; run '<tide-watch>' # now\n",
  'gate.service': '[Service]\nExecStart=/usr/bin/run <boarding-gate> --port 80\n',
  'settings.ini': '[images]\ntimetable = <timetable>\n; end\n',
  'settings.toml': '[image]\nname = "<timetable#>"\nat = 1979-05-27T07:32:00Z\n',
  'settings.properties': 'image.timetable=<timetable>\nimage.tide\\ watch : <tide-watch>\n',
  'deployment.xml': '<?xml version="1.0"?>\n<a><image><timetable></image><b v="<tide-watch>"/></a>\n',
  'NOTES.md': '# Deployed\n\nWe run `<timetable>`, and <tide-watch>.\n\n| a | <boarding-gate> |\n',
  'template.yaml.tpl': 'image: {{ .Values.prefix }}<timetable>\n{{- if .x }}\n  image: "<tide-watch>"\n{{ end }}\n',
  'broken.yaml': 'a: {{ if }}\n  image: <timetable>\n b: [\n',
  'oci.txt': 'oci://<timetable>\r\nhttps://example.test/<x>\n\tlast: <tide-watch>\x00\n',
};

/** A file as it is before, and as it is to be after. */
function render(template: string, reference: (component: string, part: string) => string): string {
  return template.replace(/<(timetable|tide-watch|boarding-gate)([#+.]?\w*)>/g, (_, component: string, part: string) =>
    reference(component, part),
  );
}

/** What a reference is to become. */
function wanted(component: string, part: string): string {
  switch (part) {
    case '#':
      return pointed(component);
    case '+tag':
      return repository(component);
    case '.tag':
      return `2.4.0@${digests.get(component) ?? ''}`;
    case '.digest':
      return digests.get(component) ?? '';
    case '.name':
      return '2.4.0';
    default:
      return pointed(component);
  }
}

/** The comment that a reference gets on its line, in what was rendered. */
function withComments(template: string, text: string): string {
  const lines = text.split('\n');
  template.split('\n').forEach((line, which) => {
    if (line.includes('#>')) {
      lines[which] = (lines[which] ?? '').replace(/(sha256:[0-9a-f]{64}["']?)/, '$1 # 2.4.0');
    }
  });
  return lines.join('\n');
}

const old = `sha256:${'0'.repeat(64)}`;
const forms: Record<string, (component: string, part: string) => string> = {
  'a tag': (component, part) =>
    ({ '+tag': repository(component), '.tag': '2.3.9', '.digest': old, '.name': '2.3.9' })[part] ??
    `${repository(component)}:2.3.9`,
  'another environment': (component, part) =>
    ({ '+tag': repository(component, 'uat'), '.tag': 'uat', '.digest': old, '.name': 'uat' })[part] ??
    `${repository(component, 'uat')}:uat`,
  'an older digest': (component, part) =>
    ({ '+tag': repository(component), '.tag': `2.3.9@${old}`, '.digest': old, '.name': '2.3.9' })[part] ??
    `${repository(component)}@${old}`,
};

test.each(Object.keys(forms))('every usual format, from %s, keeps every other byte', async (form) => {
  const names = Object.keys(files);
  expect(names.length).toBeGreaterThanOrEqual(30);
  const places = names.map((name) => at('deploy', name));
  for (const name of names) {
    await writeFile(at('deploy', name), render(files[name] ?? '', forms[form] ?? wanted));
  }
  const args = ['point', 'prod', ...places];
  const before = await Promise.all(places.map((place) => readFile(place)));
  const stale = await hod([...args, '--check', '--json'], sandbox.world.options);
  expect(stale.code).toBe(3);
  expect(await Promise.all(places.map((place) => readFile(place)))).toEqual(before);
  await hodJson('point', args, sandbox.world.options);
  for (const name of names) {
    const template = files[name] ?? '';
    expect({ name, text: await readFile(at('deploy', name), 'utf8') }).toEqual({
      name,
      text: withComments(template, render(template, wanted)),
    });
  }
  const again = await hodJson('point', [...args, '--check'], sandbox.world.options);
  expect(again.files.flatMap(({ changes }) => changes)).toEqual([]);
  expect(again.files.every(({ right }) => right > 0)).toBe(true);
});

test('a comment with another version is brought up to date, and a mode, a link and other names stay', async () => {
  const file = at('deploy', 'kept.yaml');
  const text = [
    `image: ${repository('timetable')}@${old} # 2.3.9`,
    `near: [${repository('timetable')}-worker:1, x${repository('timetable')}:1, ${repository('timetable')}/more:1]`,
    `both: ${repository('tide-watch')}:2.3.9@${old}`,
    `bare: ${repository('tide-watch')}`,
    'latin: "caf\xe9"',
    '',
  ].join('\n');
  await writeFile(file, text, 'latin1');
  await chmod(file, 0o640);
  await symlink(file, at('deploy', 'link.yaml'));
  await hodJson('point', ['point', 'prod', at('deploy', 'link.yaml')], sandbox.world.options);
  const after = await readFile(file, 'latin1');
  expect(after).toBe(
    text
      .replace(`${repository('timetable')}@${old} # 2.3.9`, `${pointed('timetable')} # 2.4.0`)
      .replace(`:2.3.9@${old}`, `:2.4.0@${digests.get('tide-watch') ?? ''}`),
  );
  expect((await stat(file)).mode & 0o777).toBe(0o640);
  const said = await hod(['point', 'prod', file, '--check'], sandbox.world.options);
  expect(said.stdout).toContain('Up to date: 3 references in 1 file');
});

test('what cannot be pointed is said, and nothing is written', async () => {
  const { world } = sandbox;
  const file = at('deploy', 'none.yaml');
  await writeFile(file, 'image: elsewhere.test/other:1\n');
  expect((await world.fails('nothing-to-point', 'point', 'prod', file)).why).toContain('no reference');
  await world.fails('file-unusable', 'point', 'prod', at('deploy'));
  // Nested deeper than anybody writes: it is a text like any other.
  await writeFile(file, `${'['.repeat(200_000)}"${repository('timetable')}:2.3.9"`);
  expect((await hod(['point', 'prod', file, '--check'], world.options)).code).toBe(3);
  await writeFile(file, `images:\n- name: ${repository('timetable', 'uat')}\n  newTag: 2.3.9\n`);
  const failed = await world.fails('nothing-to-point', 'point', 'prod', file);
  expect(failed.object).toContain('none.yaml:2');
  expect(await readFile(file, 'utf8')).toContain('newTag: 2.3.9');
});
