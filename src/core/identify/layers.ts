import { digestFact } from '../ledger/facts';
import { isMeantBy, type Digest } from '../oci/digest';
import type { RunnableImage } from '../oci/content';
import type { ImageManifest } from '../oci/manifest';
import { platformKey } from '../oci/platform';

/** One manifest of a component, and the content that it leads to. */
export interface ImageContent {
  readonly digest: Digest;
  /** `os/arch[/variant]`; undefined for what runs nowhere: a bundle. */
  readonly platform?: string | undefined;
  readonly config: Digest;
  /** Digests of the layers as registries keep them, and as they are unpacked: scanners and nodes print either. */
  readonly layers: readonly Digest[];
  readonly diffIds: readonly Digest[];
}

/** A component, by the digest that it was released with, and its images. */
export interface ComponentContent {
  readonly component: string;
  readonly digest: Digest;
  readonly images: readonly ImageContent[];
}

/** A layer or a config, and the components that hold it. */
export interface ContentWithin {
  readonly digest: Digest;
  readonly is: 'layer' | 'config';
  /** Undefined where images of several platforms hold it. */
  readonly platform: string | undefined;
  readonly holders: readonly Pick<ComponentContent, 'component' | 'digest'>[];
}

/** Describes the manifests of a component, by what was read of them. */
export function imageContents(
  manifests: readonly ImageManifest[],
  runnable: readonly RunnableImage[],
): readonly ImageContent[] {
  const images = new Map(runnable.map((image) => [image.manifest.digest, image]));
  return manifests.map(({ digest, config, layers }) => {
    const image = images.get(digest);
    return {
      digest,
      platform: image && platformKey(image.platform),
      config: config.digest,
      layers: layers.map((layer) => layer.digest),
      diffIds: [...(image?.config?.diffIds ?? [])],
    };
  });
}

/** Finds layers and configs by their digests, or by the first digits of those. */
export class ContentIndex {
  private readonly byDigits = new Map<string, Map<Digest, ContentWithin>>();

  constructor(contents: readonly ComponentContent[]) {
    for (const { component, digest: of, images } of contents) {
      for (const { platform, config, layers, diffIds } of images) {
        const holder = { component, digest: of };
        this.add({ digest: config, is: 'config', platform, holders: [holder] });
        new Set([...layers, ...diffIds]).forEach((digest) => {
          this.add({ digest, is: 'layer', platform, holders: [holder] });
        });
      }
    }
  }

  /** Finds what a digest, or digits that digests begin with, stand for. */
  find(text: string): readonly ContentWithin[] {
    const { key } = digestFact(text);
    return [...(this.byDigits.get(key)?.values() ?? [])].filter(({ digest }) => isMeantBy(text, digest));
  }

  private add(content: ContentWithin): void {
    const { key } = digestFact(content.digest);
    const alike = this.byDigits.get(key) ?? new Map<Digest, ContentWithin>();
    this.byDigits.set(key, alike);
    const known = alike.get(content.digest);
    alike.set(content.digest, known === undefined ? content : joined(known, content));
  }
}

function joined(known: ContentWithin, { platform, holders }: ContentWithin): ContentWithin {
  const fresh = holders.filter((each) =>
    known.holders.every(({ component, digest }) => component !== each.component || digest !== each.digest),
  );
  return {
    ...known,
    platform: known.platform === platform ? platform : undefined,
    holders: [...known.holders, ...fresh],
  };
}
