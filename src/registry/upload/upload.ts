import { setTimeout as delay } from 'node:timers/promises';
import { allBytes } from '../../core/bytes';
import { HodError } from '../../core/errors';
import { measured, verified, type ContentSource } from '../../core/oci/content';
import type { Digest, DigestHasher } from '../../core/oci/digest';
import { Advance, withRetries, type Retries } from '../../http/retry';
import { passingProblem } from '../../http/status-problems';
import { rereadingTime } from '../../http/wire';
import { Pieces } from './pieces';
import { probeChecking } from './probe';
import type { UploadSession, UploadState } from './session';
import { isSmall } from './small';

/** What is uploaded, and how. */
export interface UploadWork {
  readonly source: ContentSource;
  /** Where the registry has begun an upload already (a mount that it turned into one). */
  readonly begun: string | undefined;
  /** Told of bytes as they are sent. */
  readonly sent: (bytes: number) => void;
  /** Asks whether the blob is there. */
  readonly isThere: () => Promise<boolean>;
  readonly retries: Retries;
  /** Makes what hashes a large blob, by the algorithm of its digest. */
  readonly hasher: (like: Digest) => DigestHasher;
}

/**
 * Uploads one blob. A large one goes up in chunks, and goes on from where the registry says that it
 * broke off, also in a later run (OCI distribution specification, "Pushing a blob in chunks"). Trying
 * again does not count where the last try got further.
 *
 * Its bytes are hashed once: here, or by a registry that was seen to refuse what is not what its digest
 * says. Where that refuses, they are hashed here too, to tell what is corrupt from what was damaged on the way.
 */
export async function uploadBlob(session: UploadSession, work: UploadWork): Promise<void> {
  const upload = new Upload(session, work);
  let given = work.begun;
  let first = true;
  await withRetries(
    async () => {
      if (!first && (await work.isThere())) {
        return session.end();
      }
      first = false;
      const location = given;
      given = undefined;
      return upload.run(location);
    },
    work.retries,
    () => upload.advanced(),
  );
}

class Upload {
  /** Bytes that were written to a connection. Buffers may hold the last of them, and are lost when the connection breaks. */
  private readonly written = new Advance();
  /** Bytes that the registry said it has. */
  private readonly kept = new Advance();

  constructor(
    private readonly session: UploadSession,
    private readonly work: UploadWork,
  ) {}

  /** Whether the last try got further than all before it. */
  advanced(): boolean {
    const [written, kept] = [this.written.made(), this.kept.made()];
    return written || kept;
  }

  async run(begun: string | undefined): Promise<void> {
    const { descriptor, intake } = this.session;
    if (isSmall(descriptor) && descriptor.size <= (await intake.largestBody())) {
      return this.sendWhole(begun);
    }
    const [hashed, state] = await Promise.all([this.isHashed(), this.goOn(begun)]);
    try {
      await this.sendRest(state, hashed);
    } catch (error) {
      if (error instanceof HodError && error.fault === 'corrupt') {
        await this.session.cancel(state.location);
      }
      throw error;
    }
    await this.session.end();
  }

  /** Whether nobody but us is known to hash it. */
  private async isHashed(): Promise<boolean> {
    const { descriptor, intake } = this.session;
    return isSmall(descriptor) || !(await intake.checks(() => probeChecking(this.session)));
  }

  /** An upload that goes on, or begins. */
  private async goOn(begun: string | undefined): Promise<UploadState> {
    const resumed = begun === undefined ? await this.session.resume() : undefined;
    return resumed ?? { location: begun ?? (await this.session.begin()), offset: 0 };
  }

  private async sendWhole(begun: string | undefined): Promise<void> {
    const { session, work } = this;
    const { descriptor } = session;
    const bytes = await allBytes(verified(await work.source.openBlob(descriptor), descriptor, work.source.label));
    const location = begun ?? (await session.begin());
    const sent = await session.sendWhole(location, bytes, () => {
      work.sent(bytes.length);
    });
    if (sent.kind === 'too-large') {
      await session.shrink(bytes.length);
      await this.sendRest({ location, offset: 0 }, true);
      await session.end();
    }
  }

  /** Sends what the registry does not have yet, chunk after chunk; in smaller ones from where one was too large. */
  private async sendRest(state: UploadState, hashed: boolean): Promise<void> {
    this.written.reached = state.offset;
    this.kept.reached = state.offset;
    const pieces = await this.open(hashed ? 0 : state.offset, hashed);
    let refused: UploadState | undefined;
    try {
      await pieces.skip(hashed ? state.offset : 0);
      refused = await this.sendPieces(pieces, state, hashed);
    } finally {
      await pieces.close();
    }
    if (refused !== undefined) {
      await this.sendRest(refused, hashed);
    }
  }

  /** Sends pieces to their end, and ends the upload. Returns where a chunk was too large. */
  private async sendPieces(pieces: Pieces, state: UploadState, hashed: boolean): Promise<UploadState | undefined> {
    const { session } = this;
    const { size } = session.descriptor;
    for (let { location, offset } = state; ;) {
      await session.remember(location);
      if (offset >= size) {
        await this.finish(location, hashed);
        return undefined;
      }
      const length = Math.min(await session.intake.largestBody(), size - offset);
      const sent = await session.sendChunk({ location, offset }, length, () =>
        pieces.body(length, (bytes) => {
          this.written.reached += bytes;
          this.work.sent(bytes);
        }),
      );
      if (sent.kind === 'too-large') {
        await session.shrink(length);
        return { location, offset };
      }
      location = sent.location;
      offset += length;
      this.kept.reached = offset;
    }
  }

  private async open(from: number, hashed: boolean): Promise<Pieces> {
    const { source, hasher } = this.work;
    const { descriptor } = this.session;
    const bytes = await source.openBlob(descriptor, from);
    return new Pieces(
      hashed
        ? verified(bytes, descriptor, source.label, hasher(descriptor.digest))
        : measured(bytes, descriptor, source.label, from),
    );
  }

  /** Ends the upload. What the registry holds may be gone or damaged; where it refuses the whole, all begins anew. */
  private async finish(location: string, hashed: boolean): Promise<void> {
    const { session } = this;
    const { kind, response } = await session.finish(location);
    if (kind === 'gave-up' && !(await this.isFinished())) {
      throw passingProblem(response, session.about, session.intake.registry);
    }
    if (kind === 'refused') {
      if (!hashed) {
        await this.checkSource();
      }
      throw await session.lost(response);
    }
  }

  /** Waits for a registry that may still be reading what it was sent, by asking. */
  private async isFinished(): Promise<boolean> {
    const end = performance.now() + rereadingTime(this.session.descriptor.size);
    let pause = this.work.retries.firstDelay;
    do {
      await delay(pause);
      pause *= 2;
      if (await this.work.isThere()) {
        return true;
      }
    } while (performance.now() < end);
    return false;
  }

  /** Throws `corrupt` where the bytes that were sent are not what their digest says. */
  private async checkSource(): Promise<void> {
    const pieces = await this.open(0, true);
    try {
      await pieces.skip(this.session.descriptor.size);
    } finally {
      await pieces.close();
    }
  }
}
