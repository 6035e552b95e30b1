import type { Memory } from '../core/memory';

/** What was seen of how a registry, and what stands in front of it, takes content. */
export interface IntakeMemory {
  /** Whether it refuses content that is not what its digest says. */
  readonly checks: Memory<boolean>;
  /** The most bytes that one request may have, where more did not get through. */
  readonly largestBody: Memory<number>;
  /** Tells whoever wants to know everything. */
  tell(text: string): void;
}

const KiB = 1024;
const MiB = 1024 * KiB;

/** Large blobs go up in pieces of so many bytes: what a registry that keeps only whole ones can lose when a connection breaks. */
const usualBody = 256 * MiB;
/** Where they do not pass they shrink to a quarter, and again. */
const shrinking = 4;
/** Where not even so many pass, hardly a manifest does. */
export const leastBody = 64 * KiB;

/** How one registry takes content: found out once, and remembered. */
export class Intake {
  private checking: Promise<boolean> | undefined;
  private largest: Promise<number> | undefined;

  constructor(
    readonly registry: string,
    private readonly memory: IntakeMemory,
  ) {}

  /**
   * Whether the registry refuses content that is not what its digest says. Then nobody else needs to hash it.
   *
   * @param probe Finds out; undefined where it cannot be told.
   */
  async checks(probe: () => Promise<boolean | undefined>): Promise<boolean> {
    this.checking ??= this.findOut(probe);
    try {
      return await this.checking;
    } catch (error) {
      // Whoever tries again finds out again.
      this.checking = undefined;
      throw error;
    }
  }

  /** How many bytes one request may have. */
  largestBody(): Promise<number> {
    this.largest ??= this.memory.largestBody.recall().then((known) => known ?? usualBody);
    return this.largest;
  }

  /** So many bytes in one request did not get through. Answers false where fewer need not be tried. */
  async refused(bytes: number): Promise<boolean> {
    if (bytes <= leastBody) {
      return false;
    }
    if (bytes <= (await this.largestBody())) {
      const fewer = Math.max(leastBody, Math.floor(bytes / shrinking));
      this.largest = Promise.resolve(fewer);
      this.memory.tell(`${this.registry}: ${bytes} bytes are too many for one request; now it gets ${fewer} at a time`);
      await this.memory.largestBody.remember(fewer);
    }
    return true;
  }

  private async findOut(probe: () => Promise<boolean | undefined>): Promise<boolean> {
    const known = await this.memory.checks.recall();
    const found = known ?? (await probe());
    const checks = found === true;
    this.memory.tell(
      checks
        ? `${this.registry} checks what it is sent: blobs go there without a hash of ours`
        : `${this.registry} was not seen to check what it is sent: blobs are hashed here`,
    );
    if (known === undefined && found !== undefined) {
      await this.memory.checks.remember(found);
    }
    return checks;
  }
}
