import { execFileSync } from 'node:child_process';
import { createHmac, createPrivateKey, sign, type KeyObject } from 'node:crypto';
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { hodJson } from '../support/hod';
import { OtherClient, type Subject } from '../support/other-client';
import {
  encodedForSigning,
  envelopeOf,
  makeAnchor,
  makeKey,
  makeSigner,
  openssl,
  statementAbout,
  statementType,
} from '../support/signing';
import { sandboxWorld, type SandboxWorld } from '../support/world';

/** What a gate must not believe: each row is a statement that somebody without the key could make, or an old one. */

const envelopeType = 'application/vnd.dsse.envelope.v1+json';
const keys = mkdtempSync(join(tmpdir(), 'hod-keys-'));
const file = (name: string): string => readFileSync(join(keys, name), 'utf8');
const images = ['timetable', 'boarding-gate', 'tide-watch'] as const;

let sandbox: SandboxWorld;
let build: KeyObject;
let subject: Subject;
let other: Subject;
let dev: OtherClient;

const day = (count: number): string => new Date(Date.now() + count * 86_400_000).toISOString();

beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  build = makeKey(keys, 'build', 'p256');
  for (const [name, kind] of [
    ['ed', 'ed25519'],
    ['p384', 'p384'],
    ['rsa', 'rsa'],
    ['stranger', 'p256'],
    ['weak', 'weak'],
    ['former', 'p256'],
  ] as const) {
    makeKey(keys, name, kind);
  }
  makeAnchor(keys, 'corp');
  makeAnchor(keys, 'elsewhere');
  await world.publish();
  dev = new OtherClient(world.ports.dev, 'skerry/timetable');
  subject = await dev.subject('2.4.0');
  other = await new OtherClient(world.ports.dev, 'skerry/tide-watch').subject('2.4.0');
  for (const image of images.slice(1)) {
    const client = new OtherClient(world.ports.dev, `skerry/${image}`);
    const about = await client.subject('2.4.0');
    await client.attach(about, envelopeType, JSON.stringify(envelopeOf(statementAbout(about.digest), [build])));
  }
  await world.configure(
    '    tags: { fixed: ["{version}"], moving: [uat] }',
    `$&\n    gates: { attested: [{ type: 'https://skerry.test/built/v1', by: [build, corp], where: { predicate.builder.id: 'https://ci.test/*' } }] }`,
  );
  const yaml = (name: string): string => `{ file: '${join(keys, name)}' }`;
  await world.configure(
    /^environments:/m,
    `trust:
  keys:
    build:
      - ${yaml('build.pub.pem')}
      - ${yaml('ed.pub.pem')}
      - ${yaml('p384.pub.pem')}
      - ${yaml('rsa.pub.pem')}
      - { file: '${join(keys, 'former.pub.pem')}', until: 2026-01-31 }
  authorities:
    corp: { file: '${join(keys, 'corp.pem')}', names: [build@skerry.test] }
environments:`,
  );
});
afterAll(() => sandbox.close());

const key = (name: string): KeyObject => createPrivateKey(file(`${name}.key`));
const good = (): object => statementAbout(subject.digest);

/** Attaches a document to timetable, asks to promote, and takes it away again. */
async function ask(document: object | string | undefined): Promise<{ code: number | null; text: string }> {
  const text = typeof document === 'string' ? document : JSON.stringify(document);
  const made = document === undefined ? undefined : await dev.attach(subject, envelopeType, text);
  const run = await sandbox.world.hod('promote', 'uat', '--dry-run', '--json');
  if (made !== undefined) {
    await dev.detach(subject.digest, made.digest);
  }
  return { code: run.code, text: run.stdout + run.stderr };
}

const signer = (name: string, more: Parameters<typeof makeSigner>[2]): object => {
  const made = makeSigner(keys, name, more);
  return envelopeOf(good(), [made], { more: { cert: file(`${name}.pem`) } });
};
const corp = { authority: 'corp', email: 'build@skerry.test' };
const unsigned = (signature: string): object => ({
  ...envelopeOf(good(), [build]),
  signatures: [{ keyid: 'build', sig: signature }],
});

test.each<[string, () => object | string]>([
  ['ECDSA P-256', () => envelopeOf(good(), [build])],
  [
    'a plain P-256 signature (IEEE P1363)',
    () =>
      unsigned(
        sign('sha256', encodedForSigning(statementType, JSON.stringify(good())), {
          key: build,
          dsaEncoding: 'ieee-p1363',
        }).toString('base64'),
      ),
  ],
  ['Ed25519', () => envelopeOf(good(), [key('ed')])],
  ['ECDSA P-384', () => envelopeOf(good(), [key('p384')])],
  ['RSA-PSS', () => envelopeOf(good(), [key('rsa')])],
  ['the second of two signatures', () => envelopeOf(good(), [key('stranger'), build])],
  ['a certificate of the authority', () => signer('signer', corp)],
  [
    'a certificate below another',
    () => {
      makeSigner(keys, 'middle', {
        authority: 'corp',
        email: 'middle@skerry.test',
        more: ['basicConstraints=critical,CA:TRUE,pathlen:0', 'keyUsage=critical,keyCertSign'],
      });
      const made = makeSigner(keys, 'below', { authority: 'middle', email: 'build@skerry.test' });
      return envelopeOf(good(), [made], { more: { cert: file('below.pem') + file('middle.pem') } });
    },
  ],
  [
    'several statements, one a line',
    () =>
      [envelopeOf(statementAbout(other.digest), [build]), envelopeOf(good(), [build])]
        .map((each) => JSON.stringify(each))
        .join('\n'),
  ],
])('counts: %s', async (_, document) => {
  expect(await ask(document())).toMatchObject({ code: 0 });
});

test.each<[string, () => object | string | undefined, RegExp]>([
  ['nothing', () => undefined, /no signed statement/],
  [
    'a statement about another image',
    () => envelopeOf(statementAbout(other.digest), [build]),
    /its subject is not sha256:/,
  ],
  ['a statement by a stranger', () => envelopeOf(good(), [key('stranger')]), /not signed by build or corp/],
  ['a key that expired', () => envelopeOf(good(), [key('former')]), /expired on 2026-01-31/],
  ['an envelope without a signature', () => ({ ...envelopeOf(good(), [build]), signatures: [] }), /has no signature/],
  ['an empty signature', () => unsigned(''), /not signed by/],
  [
    'a key that the envelope brings along',
    () => ({ ...envelopeOf(good(), [key('stranger')]), key: file('stranger.pub.pem') }),
    /not signed by/,
  ],
  ['the algorithm `none`', () => ({ ...envelopeOf(good(), [key('stranger')]), alg: 'none' }), /not signed by/],
  [
    'HMAC with the public key',
    () =>
      unsigned(
        createHmac('sha256', file('build.pub.pem'))
          .update(encodedForSigning(statementType, JSON.stringify(good())))
          .digest('base64'),
      ),
    /not signed by/,
  ],
  [
    'a signature over the payload alone',
    () => unsigned(sign('sha256', Buffer.from(JSON.stringify(good())), build).toString('base64')),
    /not signed by/,
  ],
  [
    'another payload type',
    () => ({ ...envelopeOf(good(), [build]), payloadType: 'application/json' }),
    /payload type is application\/json/,
  ],
  [
    'another payload type, signed',
    () => envelopeOf(good(), [build], { type: 'application/vnd.other+json' }),
    /payload type is/,
  ],
  [
    'a payload that was changed',
    () => ({
      ...envelopeOf(good(), [build]),
      payload: Buffer.from(JSON.stringify({ ...good(), more: 1 })).toString('base64'),
    }),
    /not signed by/,
  ],
  [
    'a key twice in the envelope',
    () => JSON.stringify(envelopeOf(good(), [build])).replace('{', '{"payloadType":"x",'),
    /stands in it twice/,
  ],
  [
    'a key twice in the statement',
    () => envelopeOf(JSON.stringify(good()).replace('{', '{"subject":[],'), [build]),
    /stands in it twice/,
  ],
  [
    '10,000 signatures',
    () => ({
      ...envelopeOf(good(), [key('stranger')]),
      signatures: Array.from({ length: 10_000 }, () => ({ sig: 'AAAA' })),
    }),
    /more than 20 signatures/,
  ],
  [
    'another builder',
    () =>
      envelopeOf(statementAbout(subject.digest, { predicate: { builder: { id: 'https://ci.test.evil/x' } } }), [build]),
    /predicate.builder.id is https:\/\/ci.test.evil\/x/,
  ],
  [
    'no builder',
    () => envelopeOf(statementAbout(subject.digest, { predicate: {} }), [build]),
    /predicate.builder.id is missing/,
  ],
  [
    'a builder that is a list',
    () =>
      envelopeOf(statementAbout(subject.digest, { predicate: { builder: { id: ['https://ci.test/skerry'] } } }), [
        build,
      ]),
    /is no single value/,
  ],
  [
    'another predicate',
    () => envelopeOf(statementAbout(subject.digest, { predicateType: 'https://skerry.test/other/v1' }), [build]),
    /no signed statement of https:\/\/skerry.test\/built\/v1/,
  ],
  [
    'a certificate of another authority',
    () => signer('foreign', { ...corp, authority: 'elsewhere' }),
    /do not lead to this authority/,
  ],
  [
    'a certificate of another name',
    () => signer('named', { ...corp, email: 'mole@skerry.test' }),
    /email:mole@skerry.test; expected: build@skerry.test/,
  ],
  ['a certificate that expired', () => signer('expired', { ...corp, days: -1 }), /expired on/],
  [
    'a certificate for servers',
    () => signer('server', { ...corp, more: ['extendedKeyUsage=serverAuth'] }),
    /not for signing documents/,
  ],
  [
    'a certificate below one that is no authority',
    () => {
      makeSigner(keys, 'leaf', corp);
      const made = makeSigner(keys, 'forged', { authority: 'leaf', email: 'build@skerry.test' });
      return envelopeOf(good(), [made], { more: { cert: file('forged.pem') + file('leaf.pem') } });
    },
    /do not lead to this authority/,
  ],
  [
    'a certificate below an authority that allows none',
    () => {
      makeSigner(keys, 'last', {
        authority: 'corp',
        email: 'a@skerry.test',
        more: ['basicConstraints=critical,CA:TRUE,pathlen:0'],
      });
      makeSigner(keys, 'beyond', {
        authority: 'last',
        email: 'b@skerry.test',
        more: ['basicConstraints=critical,CA:TRUE'],
      });
      const made = makeSigner(keys, 'deep', { authority: 'beyond', email: 'build@skerry.test' });
      return envelopeOf(good(), [made], { more: { cert: file('deep.pem') + file('beyond.pem') + file('last.pem') } });
    },
    /do not lead to this authority/,
  ],
  [
    'a certificate and the signature of another key',
    () => {
      makeSigner(keys, 'mine', corp);
      return envelopeOf(good(), [key('stranger')], { more: { cert: file('mine.pem') } });
    },
    /not made with the key of the certificate/,
  ],
  [
    '5 MB of it',
    () => envelopeOf(statementAbout(subject.digest, { filler: 'x'.repeat(5_000_000) }), [build]),
    /at most 4194304 are read/,
  ],
  [
    '70 levels of it',
    () =>
      envelopeOf(statementAbout(subject.digest, { deep: JSON.parse('['.repeat(70) + ']'.repeat(70)) as unknown }), [
        build,
      ]),
    /deeper than 64 levels/,
  ],
  ['no JSON at all', () => 'signed, the harbour master', /it is not JSON/],
])('does not count: %s', async (_, document, reason) => {
  const { code, text } = await ask(document());
  expect([code, text]).toEqual([3, expect.stringMatching(reason)]);
  expect(text).not.toMatch(/at .*\.js:\d+/);
});

test('a statement in the repository of another image, about the right digest, is not looked for there', async () => {
  const elsewhere = new OtherClient(sandbox.world.ports.dev, 'skerry/tide-watch');
  const made = await elsewhere.attach(other, envelopeType, JSON.stringify(envelopeOf(good(), [build])));
  expect(await ask(undefined)).toMatchObject({ code: 3 });
  await elsewhere.detach(other.digest, made.digest);
});

const gate = (rule: string): string =>
  `gates: { attested: [{ type: 'https://skerry.test/built/v1', by: build, ${rule} }] }`;
const usual =
  "gates: { attested: [{ type: 'https://skerry.test/built/v1', by: [build, corp], where: { predicate.builder.id: 'https://ci.test/*' } }] }";

test('a statement may have an age: a later one counts, an older one, one without a time and one of tomorrow do not', async () => {
  const { world } = sandbox;
  const made = (time: unknown, field = 'finishedOn'): object =>
    envelopeOf(statementAbout(subject.digest, { predicate: { runDetails: { metadata: { [field]: time } } } }), [build]);
  await world.configure(usual, gate('no-older-than: 7d').replace('build,', '[build],'));
  // The other images have statements without a time: what is asked of each is told of each.
  for (const [document, reason] of [
    [made(day(-6)), undefined],
    [made(day(-8)), /timetable: sha256:\w{12}: the statement of .* expired after 7 d/],
    [made('yesterday'), /timetable: sha256:\w{12}: the statement has no date/],
    [made(day(1)), /timetable: sha256:\w{12}: the statement is dated .*, in the future; check the clocks/],
    [made(day(-1), 'checked'), /timetable: sha256:\w{12}: the statement has no date/],
  ] as const) {
    const { code, text } = await ask(document);
    expect([code, text]).toEqual([3, expect.stringContaining('boarding-gate: ')]);
    expect(text.includes('timetable: sha256:')).toBe(reason !== undefined);
    expect(text).toMatch(reason ?? /has no date/);
  }
  await world.configure(gate('no-older-than: 7d').replace('build,', '[build],'), usual);
});

test('where each platform is asked, a statement about the index will not do', async () => {
  const { world } = sandbox;
  const members = await dev.members('2.4.0');
  await world.configure(usual, gate('each: platform'));
  const all = members.map(({ digest }) => ({ digest: { sha256: digest.slice(7) } }));
  const about = (subjects: object[]): object => envelopeOf({ ...good(), subject: subjects }, [build]);
  expect((await ask(about(all))).text).not.toContain('timetable linux');
  const partly = await ask(about(all.slice(1)));
  expect(partly.text).toMatch(/timetable linux\/amd64: sha256:\w{12}: its subject is not/);
  expect(partly.text).not.toContain('timetable linux/arm64');
  await world.configure(gate('each: platform'), usual);
});

test('what openssl signs counts; a key counts for what the ledger knew of before it expired, and for nothing later', async () => {
  const { world } = sandbox;
  writeFileSync(join(keys, 'message'), encodedForSigning(statementType, JSON.stringify(good())));
  openssl(keys, 'dgst', '-sha256', '-sign', 'build.key', '-out', 'message.sig', 'message');
  await world.fails('attestation-missing', 'promote', 'uat');
  const made = unsigned(readFileSync(join(keys, 'message.sig')).toString('base64'));
  await dev.attach(subject, envelopeType, JSON.stringify(made));
  const promoted = await world.promote('uat');
  expect(promoted.gates).toContainEqual(
    expect.objectContaining({
      gate: 'attested https://skerry.test/built/v1',
      outcome: 'met',
      detail: expect.stringMatching(
        /^timetable, boarding-gate, tide-watch: signed by build \(ECDSA P-256 sha256:\w{12}\)$/,
      ),
    }),
  );
  const until = new Date().toISOString();
  await world.configure(/build\.pub\.pem' \}/, `build.pub.pem', until: ${until} }`);
  await world.configure(
    '    tags: { fixed: ["{version}"], moving: ["{major}.{minor}"',
    `    ${gate('each: platform').replace(', each: platform', '')}\n$&`,
  );
  const uat = new OtherClient(world.ports.uat, 'skerry/timetable');
  const [own] = (await uat.referrers(subject.digest)).filter(({ artifactType }) => artifactType === envelopeType);
  await uat.detach(subject.digest, own?.digest ?? '');
  const late = JSON.stringify(envelopeOf({ ...good(), late: true }, [build]));
  const forged = await uat.attach(subject, envelopeType, late);
  expect(JSON.stringify(await world.fails('attestation-missing', 'promote', 'prod'))).toMatch(/expired on 20/);
  await uat.detach(subject.digest, forged.digest);
  await uat.attach(subject, envelopeType, JSON.stringify(made));
  expect((await world.promote('prod')).to).toBe('prod');
  await world.configure(/, until: 20[^}]*Z \}/, ' }');
});

test('a commit counts that one of the people signed, whatever the settings of the clone say', async () => {
  const { world } = sandbox;
  const { folder } = world.product;
  for (const name of ['una', 'mole']) {
    execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-C', name, '-f', join(keys, name)]);
  }
  writeFileSync(join(keys, 'people'), `una@skerry.test ${file('una.pub')}`);
  await world.configure(/^trust:/m, `trust:\n  people: { file: '${join(keys, 'people')}' }`);
  await world.configure(usual, 'gates: { signed-commit: true }');
  const signing = (name: string): string[] => [
    '-c',
    'gpg.format=ssh',
    '-c',
    `user.signingkey=${join(keys, `${name}.pub`)}`,
  ];
  const git = (...args: string[]): string => execFileSync('git', args, { cwd: folder, encoding: 'utf8' });
  const release = async (version: string, ...settings: string[]) => {
    git(...settings, 'commit', '-q', '--allow-empty', '-m', version, ...(settings.length > 0 ? ['-S'] : []));
    await world.product.build(version);
    await world.publish('--branch', 'main', '--version', version);
  };
  await release('2.7.0');
  expect(JSON.stringify(await world.fails('commit-unsigned', 'promote', 'uat'))).toContain('it has no signature');
  await release('2.7.1', ...signing('mole'));
  git('config', 'gpg.ssh.allowedSignersFile', join(keys, 'mole.pub'));
  git('config', 'gpg.ssh.program', 'true');
  expect(JSON.stringify(await world.fails('commit-unsigned', 'promote', 'uat'))).toContain('a key that nobody in');
  git('config', '--unset', 'gpg.ssh.program');
  await release('2.7.2', ...signing('una'));
  const promoted = await world.promote('uat');
  expect(JSON.stringify(promoted.gates)).toContain('is signed by una@skerry.test');
});

test('show says of each referrer who signed it, or why that does not count', async () => {
  const { world } = sandbox;
  const client = new OtherClient(world.ports.dev, 'skerry/tide-watch');
  await client.attach(other, envelopeType, JSON.stringify(envelopeOf(statementAbout(subject.digest), [build])));
  await client.attach(other, envelopeType, JSON.stringify(envelopeOf(statementAbout(other.digest), [key('stranger')])));
  const shown = await hodJson('show', ['show', `${world.repository('dev', 'tide-watch')}:2.4.0`], world.options);
  const signed = shown.referrers.flatMap((each) => each.signed ?? []).map(({ by, detail }) => by ?? detail);
  expect(signed.sort()).toEqual([
    'build',
    'it is not about this manifest',
    'it is not signed by anybody who is trusted',
  ]);
  const elsewhere = await hodJson('show', ['show', `${world.repository('dev', 'tide-watch')}:2.4.0`], {
    ...world.options,
    cwd: keys,
  });
  expect(elsewhere.referrers.flatMap((each) => each.signed ?? [])[0]?.detail).toContain('no hod.yaml here');
});

test('a weak key, a private key and a missing one are refused by name', async () => {
  const { world } = sandbox;
  const config = readFileSync(join(world.product.folder, 'hod.yaml'), 'utf8');
  for (const [name, reason] of [
    ['weak.pub.pem', /RSA key of 1024 bits; 2048 are the least/],
    ['build.key', /it is a private key/],
    ['nowhere.pem', /ENOENT/],
    ['corp.pem', /not a public key in PEM/],
  ] as const) {
    writeFileSync(join(world.product.folder, 'bad.yaml'), config.replace('ed.pub.pem', name));
    const error = await world.fails('trust-unusable', 'config', 'check', '--config', 'bad.yaml');
    expect(JSON.stringify(error)).toMatch(reason);
  }
  const status = await world.hod('status', '--config', 'bad.yaml');
  expect([status.code, status.stderr]).toEqual([0, expect.stringContaining('are shown as not met')]);
});

test('prove checks the statements about what is served again: one that was swapped for another is found', async () => {
  const place = await sandboxWorld();
  const { world } = place;
  try {
    await world.configure(
      '    tags: { fixed: ["{version}"], moving: [uat] }',
      "$&\n    gates: { attested: [{ type: 'https://skerry.test/built/v1', by: build }] }",
    );
    await world.configure(
      /^environments:/m,
      `trust: { keys: { build: { file: '${join(keys, 'build.pub.pem')}' } } }\nenvironments:`,
    );
    await world.publish();
    const made = new Map<string, Subject>();
    for (const image of images) {
      const client = new OtherClient(world.ports.dev, `skerry/${image}`);
      const about = await client.subject('2.4.0');
      const statement = JSON.stringify(envelopeOf(statementAbout(about.digest), [build]));
      made.set(image, await client.attach(about, envelopeType, statement));
    }
    await world.promote('uat');
    const [proved] = (await hodJson('prove', ['prove', 'uat'], world.options)).environments;
    expect(proved?.findings).toEqual([]);
    expect(proved?.statements.map(({ component, by }) => [component, by])).toEqual(
      expect.arrayContaining(images.map((image) => [image, 'build'])),
    );
    const uat = new OtherClient(world.ports.uat, 'skerry/timetable');
    const about = await uat.subject('2.4.0');
    await uat.detach(about.digest, made.get('timetable')?.digest ?? '');
    await uat.attach(about, envelopeType, JSON.stringify(envelopeOf(statementAbout(about.digest), [key('stranger')])));
    const run = await world.hod('prove', 'uat', '--json');
    expect(run.code).toBe(4);
    expect(run.stdout).toMatch(/"finding":"referrer-gone"/);
    expect(run.stdout).toMatch(/"finding":"evidence-missing"[^}]*timetable: sha256:\w{12}: it is not signed by build/);
  } finally {
    await place.close();
  }
});
