import type { Action } from '../core/ledger/entries';
import { entryAfter, timeAfter } from '../core/ledger/entry';
import type { Facts } from '../core/ledger/facts';
import type { RepositoryName } from '../core/oci/reference';
import type { Tag } from '../core/oci/tag';
import type { Timestamp } from '../core/time';
import type { Orders } from '../delivery/delivery';
import { Judge } from '../delivery/judge';
import { MemoryLedger } from '../ledger/memory';

/** The ledger that is made again, whose registries serve what it says. */
export class RebuiltLedger {
  readonly ledger = new MemoryLedger();

  constructor(
    private readonly product: string,
    private readonly actor: string,
  ) {}

  get facts(): Facts {
    return this.ledger.facts;
  }

  add(action: Action, then: Timestamp): void {
    const at = timeAfter(this.facts, then);
    this.ledger.add(entryAfter(this.ledger.head, { product: this.product, at, actor: this.actor, action }));
  }

  /** Decides as if the registries served what this ledger says. */
  judge(places: readonly RepositoryName[], orders: Orders): Judge {
    const unasked = (): Promise<never> => Promise.reject(new Error('nothing is read while a ledger is made again'));
    return new Judge(
      { ledger: this.ledger, orders },
      [...new Set(places)].map((label) => ({
        target: {
          label,
          readManifest: unasked,
          openBlob: unasked,
          manifests: {
            get: unasked,
            resolve: async (tag) => this.facts.get('tag', `${label}:${tag}`)?.digest,
          },
          blobs: { has: unasked },
          tags: { list: () => noTags() },
        },
      })),
    );
  }

  /** The same ledger, which goes its own way from here. */
  copy(): RebuiltLedger {
    const copy = new RebuiltLedger(this.product, this.actor);
    this.ledger.sealed.forEach((sealed) => copy.ledger.add(sealed));
    return copy;
  }

  /** The same ledger with one entry more. */
  with(action: Action, then: Timestamp): RebuiltLedger {
    const further = this.copy();
    further.add(action, then);
    return further;
  }
}

async function* noTags(): AsyncGenerator<Tag> {
  yield* await Promise.resolve([]);
}
