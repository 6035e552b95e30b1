import { HodError } from '../core/errors';
import type { ReleaseSet } from '../core/ledger/release-set';
import type { Head, SealedEntry } from '../core/ledger/entry';
import { asOneLine } from '../core/text';
import type { Ledger, LedgerAppend } from '../ledger/ledger';
import type { Turns } from '../system/turns';

/** What a product waits with for the others. */
interface Offer {
  readonly ledger: Ledger;
  /** Undefined where it was judged, and nothing is to be written yet. */
  readonly append: LedgerAppend | undefined;
  readonly resolve: (milliseconds: number | undefined) => void;
  readonly reject: (error: unknown) => void;
}

/** The part that one product has in what several do together. */
export interface TogetherMember {
  /** Waits until every product was judged. Throws `others-refused` where one was refused, `ledgers-apart` where their ledgers are. */
  judged(product: string, ledger: Ledger): Promise<ReleaseSet>;
  /** Appends to the ledger along with all other products, or not at all. Answers as {@link Ledger.append} does. Throws `others-refused`. */
  append(ledger: Ledger, entries: readonly SealedEntry[], expected: Head): Promise<number | undefined>;
  /** Ends the part of the product. What is still to be written of the others is not, where it failed. */
  leave(failure?: unknown): void;
}

/**
 * What several products do together: all are judged first, all content is carried, and then one append records it in all ledgers.
 * Where one product fails before, nothing is recorded of any. Where somebody else was first in one ledger, all decide again.
 */
export class Together {
  private readonly present = new Set<object>();
  private readonly offers = new Map<object, Offer>();
  private readonly products: string[] = [];
  /** Why nothing can be recorded any more. */
  private failure: { readonly product: string; readonly why: string } | undefined;
  private recorded = false;

  /**
   * @param id Names what is done together in the ledgers.
   * @param turns Given back while a product waits for the others.
   */
  constructor(
    private readonly id: string,
    private readonly turns: Turns,
  ) {}

  /** Adds a product; all are added before the first of them begins. `label`: names it where its configuration cannot be read. */
  member(label: string): TogetherMember {
    const key = {};
    let name = label;
    this.present.add(key);
    return {
      judged: async (product, ledger) => {
        name = product;
        this.products.push(product);
        await this.offer(key, ledger, undefined);
        return { id: this.id, products: this.products.toSorted() };
      },
      append: (ledger, entries, expected) =>
        this.recorded ? ledger.append(entries, expected) : this.offer(key, ledger, { ledger, entries, expected }),
      leave: (error) => {
        this.present.delete(key);
        if (error === undefined) {
          this.meet();
        } else if (!this.recorded && this.failure === undefined) {
          this.fail(name, error);
        }
      },
    };
  }

  /** Waits for what the others offer. Answers as the append does; 0 where nothing was appended. */
  private offer(key: object, ledger: Ledger, append: LedgerAppend | undefined): Promise<number | undefined> {
    return new Promise<number | undefined>((resolve, reject) => {
      this.turns.give();
      this.offers.set(key, { ledger, append, resolve, reject });
      if (this.failure !== undefined) {
        this.rejectAll(this.refusal(this.failure));
      } else {
        this.meet();
      }
    }).finally(() => this.turns.take());
  }

  /** Goes on where nobody is waited for any more. */
  private meet(): void {
    if (this.offers.size > 0 && this.offers.size === this.present.size) {
      const all = [...this.offers.values()];
      this.offers.clear();
      void this.write(all).then(
        (milliseconds) => all.forEach(({ resolve }) => resolve(milliseconds)),
        (error: unknown) => all.forEach(({ reject }) => reject(error)),
      );
    }
  }

  private async write(offers: readonly Offer[]): Promise<number | undefined> {
    refuseApart(offers.map(({ ledger }) => ledger));
    const appends = offers.flatMap(({ append }) => append ?? []);
    const milliseconds = await appends[0]?.ledger.appendTogether(appends);
    this.recorded = appends.length > 0 && milliseconds !== undefined;
    return appends.length === 0 ? 0 : milliseconds;
  }

  private fail(product: string, error: unknown): void {
    this.failure = { product, why: error instanceof HodError ? asOneLine(error.problem.what) : String(error) };
    this.rejectAll(this.refusal(this.failure));
  }

  private rejectAll(error: HodError): void {
    const all = [...this.offers.values()];
    this.offers.clear();
    all.forEach(({ reject }) => reject(error));
  }

  private refusal({ product, why }: { readonly product: string; readonly why: string }): HodError {
    return new HodError('others-refused', {
      what: 'nothing was recorded for the other products',
      object: `products that go together with ${product}`,
      why: `${product} failed (${why}), and --together records all products or none`,
      next: `correct ${product} and run the command again, or leave ${product} out`,
    });
  }
}

/** Throws `ledgers-apart` unless all ledgers are in one place: no append could write to all or none of them. */
function refuseApart(ledgers: readonly Ledger[]): void {
  const [first = '', second, ...more] = new Set(ledgers.map(({ place }) => place));
  if (second !== undefined) {
    throw new HodError('ledgers-apart', {
      what: 'the products do not share a ledger',
      object: [first, second, ...more].slice(0, 5).join(', '),
      why: '--together writes to all ledgers in one step, which only one file, database or git remote can do',
      next: 'give the products the same `ledger:` in a file that they extend, or run the command without --together',
    });
  }
}
