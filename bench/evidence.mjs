import { createHash, generateKeyPairSync, sign } from 'node:crypto';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { writeFleet } from './fleet.mjs';
import {
  configure,
  folder,
  inSeconds,
  inTurn,
  median,
  publishing,
  quick,
  report,
  rounds,
  runHod,
  withDistance,
  withRegistry,
} from './harness.mjs';

const product = join(folder, 'evidence');
const fleet = join(folder, 'signed-fleet');
const statementType = 'https://skerry.test/built/v1';
const { publicKey, privateKey } = generateKeyPairSync('ed25519');
const pem = (key, type) => key.export({ format: 'pem', type });

/** Adds a signed statement about the image of a layout, which refers to it. */
function attest(path) {
  const index = JSON.parse(readFileSync(join(path, 'index.json'), 'utf8'));
  const [subject] = index.manifests;
  const add = (mediaType, text) => {
    const hex = createHash('sha256').update(text).digest('hex');
    writeFileSync(join(path, 'blobs', 'sha256', hex), text);
    return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
  };
  const payloadType = 'application/vnd.in-toto+json';
  const statement = JSON.stringify({
    _type: 'https://in-toto.io/Statement/v1',
    subject: [{ name: 'image', digest: { sha256: subject.digest.slice(7) } }],
    predicateType: statementType,
    predicate: { builder: { id: 'https://ci.test/skerry' } },
  });
  const signed = `DSSEv1 ${payloadType.length} ${payloadType} ${Buffer.byteLength(statement)} ${statement}`;
  const sig = sign(null, Buffer.from(signed), privateKey).toString('base64');
  const payload = Buffer.from(statement).toString('base64');
  const type = 'application/vnd.dsse.envelope.v1+json';
  const manifest = {
    schemaVersion: 2,
    mediaType: 'application/vnd.oci.image.manifest.v1+json',
    artifactType: type,
    config: add('application/vnd.oci.empty.v1+json', '{}'),
    layers: [add(type, JSON.stringify({ payloadType, payload, signatures: [{ sig }] }))],
    subject: { mediaType: subject.mediaType, digest: subject.digest, size: subject.size },
  };
  index.manifests.push({ ...add(manifest.mediaType, JSON.stringify(manifest)), artifactType: type });
  writeFileSync(join(path, 'index.json'), JSON.stringify(index));
}

/** What checking and signing adds to a promotion within a registry, whose images all have a statement that is carried. */
export async function measureEvidence() {
  const names = writeFleet(fleet, quick ? 6 : 50);
  names.forEach((name) => attest(join(fleet, name)));
  writeFileSync(join(folder, 'evidence.key'), pem(privateKey, 'pkcs8'));
  writeFileSync(join(folder, 'evidence.pub.pem'), pem(publicKey, 'spki'));
  const trust = `trust: { keys: { build: { file: ${join(folder, 'evidence.pub.pem')} } } }\n`;
  const signing = `${trust}sign: { key: { file: ${join(folder, 'evidence.key')} } }\n`;
  const gates = `gates: { attested: [{ type: '${statementType}', by: build, where: { predicate.builder.id: 'https://ci.test/*' } }] }`;
  for (const milliseconds of [0, 20]) {
    const promote = (more, gate) => () =>
      withRegistry((port) =>
        withDistance(port, milliseconds, async (host, counted, authority) => {
          const places = Object.fromEntries(names.map((name) => [name, join(fleet, name)]));
          configure(product, places, host, host, `registries: { "${host}": { tls: { ca: ${authority} } } }\n${more}`);
          const file = join(product, 'hod.yaml');
          const config = readFileSync(file, 'utf8');
          writeFileSync(
            file,
            config.replace('moving: [uat] } }', `moving: [uat] }${gate === '' ? '' : `, ${gate}`} }`),
          );
          runHod(product, ...publishing);
          await counted();
          const { seconds, cpu } = runHod(product, 'promote', 'uat');
          return { seconds, cpu, ...(await counted()) };
        }),
      );
    const [plain, checked, signed] = await inTurn(
      [promote(trust, ''), promote(trust, gates), promote(signing, gates)],
      Math.min(rounds, 3),
    );
    const of = (found, key) => median(found.map((each) => each[key]));
    const told = (found) =>
      `${inSeconds(of(found, 'seconds'))}, ${inSeconds(of(found, 'cpu'))} of CPU, ${of(found, 'requests')} requests`;
    const work = `promote ${names.length} images with a statement each, ${milliseconds} ms`;
    const ratio = (found) => `× ${(of(found, 'seconds') / of(plain, 'seconds')).toFixed(2)}`;
    report(`${work}, checked`, `unchecked ${told(plain)}`, told(checked), ratio(checked), '–');
    report(`${work}, checked and signed`, `unchecked ${told(plain)}`, told(signed), ratio(signed), '–');
  }
}
