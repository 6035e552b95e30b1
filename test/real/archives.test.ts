import { ArchiveCorpus } from '../support/archive-corpus';
import { hod } from '../support/hod';
import { startRealRegistry } from '../support/real-registry';

test('build outputs of every kind arrive as what they are, whoever compresses them', async () => {
  const registry = await startRealRegistry();
  const corpus = await ArchiveCorpus.create(registry.port);
  try {
    const first = await corpus.publish('1.0.0');
    // What is known is neither compressed nor sent.
    const args = ['publish', '--version', '1.0.0', '--commit', 'a'.repeat(40), '--branch', 'main'];
    const again = await hod(args, corpus.options);
    expect(again).toMatchObject({ code: 0, stderr: expect.not.stringContaining('compressing') });
    // Where nothing is remembered the same comes out.
    await corpus.forget();
    expect(await corpus.publish('1.0.0')).toEqual({ digests: first.digests, bytesSent: 0 });
    // Equal layers are one, however they came here.
    expect(first.digests['with-hard-links']).toBe(first.digests['folder-with-links']);
    expect(first.digests['first-of-several']).toBe(first.digests['plain']);
  } finally {
    await corpus.remove();
    await registry.close();
  }
});

test('a registry that lacks a layer is sent it, where only its digest is remembered', async () => {
  const [one, other] = await Promise.all([startRealRegistry(), startRealRegistry()]);
  const corpus = await ArchiveCorpus.create(one.port);
  try {
    const first = await corpus.publish('1.0.0');
    await corpus.moveTo(other.port);
    const second = await corpus.publish('1.0.0');
    expect(second.digests).toEqual(first.digests);
    expect(second.bytesSent).toBe(first.bytesSent);
  } finally {
    await corpus.remove();
    await Promise.all([one.close(), other.close()]);
  }
});
