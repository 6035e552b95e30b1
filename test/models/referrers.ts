import { timestampOf } from '../../src/core/time';
import { deepStrictEqual as same } from 'node:assert';
import fc from 'fast-check';
import { sha256, type Digest } from '../../src/core/oci/digest';
import { parseManifest, type Manifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { referrersTag, typeOf, withReferrers } from '../../src/core/oci/referrers';
import { foldReferrers } from '../../src/core/ledger/entries/known-referrers';
import { Facts } from '../../src/core/ledger/facts';
import { tagSchema, type Tag } from '../../src/core/oci/tag';
import { listReferrers, unknownTo } from '../../src/delivery/referrers/carry';
import { emptyHead } from '../../src/core/ledger/entry';
import type { RepositoryTarget } from '../../src/registry/ports';
import { unaskedTarget } from '../support/ports';
import { modelOf, type Model } from './model';

const empty = { mediaType: 'application/vnd.oci.empty.v1+json', digest: sha256('{}'), size: 2 };
export const subject = { mediaType: mediaTypes.manifest, digest: sha256('an image'), size: 8 };

/** An artifact that refers to the one image. */
export function artifact(text: string): Manifest {
  const document = {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    artifactType: 'a/signature',
    config: empty,
    layers: [{ ...empty, digest: sha256(text), size: text.length }],
    subject,
    annotations: { text },
  };
  return parseManifest(Buffer.from(JSON.stringify(document)), { label: text });
}

/** A repository without a list of referrers, that any number use at once, each step in its turn. */
class PlainRepository {
  readonly manifests = new Map<Digest, Manifest>();
  readonly tags = new Map<Tag, Manifest>();

  target(turn: () => Promise<unknown>): RepositoryTarget {
    const unasked = unaskedTarget('prod.test/skerry/timetable');
    return {
      ...unasked,
      manifests: {
        ...unasked.manifests,
        get: async (reference) => {
          await turn();
          return (
            [...this.tags].find(([tag]) => tag === reference)?.[1] ??
            [...this.manifests.values()].find(({ digest }) => digest === reference)
          );
        },
        put: async (reference, manifest) => {
          await turn();
          this.tags.set(tagSchema.parse(reference), manifest);
        },
      },
      referrers: { referrersOf: () => Promise.resolve([]), listsByItself: () => Promise.resolve(false) },
    };
  }
}

/** Of any number who write one list at the same time, nobody loses what another brought, nor what stood there. */
export function referrersModel(): Model {
  return modelOf(
    'referrers',
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(fc.uniqueArray(fc.nat(9), { minLength: 1, maxLength: 3 }), { minLength: 2, maxLength: 4 }),
      async (scheduler, writers) => {
        const repository = new PlainRepository();
        const facts = new Facts();
        const foreign = artifact('written by somebody else');
        const tag = referrersTag(subject.digest);
        repository.tags.set(
          tag,
          withReferrers(undefined, [{ ...subject, digest: foreign.digest, size: foreign.bytes.length }]),
        );
        const turn = () => scheduler.schedule(Promise.resolve());
        const done = writers.map(async (numbers) => {
          const target = repository.target(turn);
          const referrers = numbers.map((number) => {
            const manifest = artifact(`signature ${number}`);
            repository.manifests.set(manifest.digest, manifest);
            const source = { label: 'a layout', readManifest: turnOff, openBlob: turnOff };
            const node = { manifest, source, children: [] };
            return { subject: subject.digest, digest: manifest.digest, type: typeOf(manifest), node, read: turnOff };
          });
          const itemReferrers = [{ target, referrers, carried: referrers }];
          await turn();
          // The append to the ledger is one step, as it is in every engine.
          foldReferrers(unknownTo(facts, itemReferrers), { at: timestampOf(new Date(0)) }, facts, facts);
          await listReferrers(itemReferrers, {
            read: async () => {
              await turn();
              const then = new Facts();
              facts.all().forEach(({ key, text }) => then.load(key, text));
              return { head: emptyHead, facts: then };
            },
          });
        });
        await scheduler.waitIdle();
        await Promise.all(done);
        const list = repository.tags.get(tag);
        const listed = list?.kind === 'index' ? list.manifests.map(({ digest }) => digest) : [];
        const all = [...repository.manifests.keys(), foreign.digest];
        same(new Set(listed), new Set(all));
        same(listed.length, all.length);
      },
    ),
  );
}

function turnOff(): Promise<never> {
  return Promise.reject(new Error('nothing is read'));
}
