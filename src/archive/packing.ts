import type { Memory } from '../core/memory';
import type { Compression } from '../core/oci/compression';
import type { Digest } from '../core/oci/digest';

/** What a plain layer is once it is compressed. */
export interface PackedLayer {
  readonly digest: Digest;
  /** Bytes. */
  readonly size: number;
}

/** What plain layers became the last time, by their diff IDs (OCI image specification, config.md, "Layer DiffID"). */
export interface PackedLayers {
  of(diffId: Digest): Memory<PackedLayer>;
}

/** What compressing needs to know. */
export interface Packing {
  readonly compression: Compression;
  readonly known: PackedLayers;
  /** Told what takes a while. */
  note(text: string): void;
}
