import { HodError } from '../core/errors';
import type { ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';

/** Where a build output is, and which of its images is meant: `out/all.tar#timetable`. */
export interface OutputLocation {
  path: string;
  /** The name of an image; needed where the output has several. */
  name?: string | undefined;
}

/** The path that stands for standard input. */
export const standardInput = '-';

/** Reads `path` or `path#name`. */
export function parseOutputLocation(text: string): OutputLocation {
  const mark = text.lastIndexOf('#');
  return mark < 0 ? { path: text } : { path: text.slice(0, mark), name: text.slice(mark + 1) };
}

/** A build output, opened: a place to read content from, and the image or index that was asked for. */
export interface OpenedOutput {
  readonly source: ContentSource;
  readonly root: Descriptor;
}

/** An image of a build output. */
export interface OutputImage {
  /** What it may be called by. */
  readonly names: readonly string[];
  /** Equal for names of the same image. */
  readonly identity: string;
  /** Throws `missing` where it is not whole, `corrupt` where it cannot be trusted. */
  open(): Promise<OpenedOutput>;
}

/** Returns the image that a location means; the only one where it names none. Throws `missing`. */
export function chooseOutputImage(images: readonly OutputImage[], { path, name }: OutputLocation): OutputImage {
  const chosen = name === undefined ? images : images.filter(({ names }) => names.includes(name));
  const [first] = chosen;
  if (first !== undefined && chosen.every(({ identity }) => identity === first.identity)) {
    return first;
  }
  const known = [...new Set(images.map(({ names }) => names[0]).filter((name) => name !== undefined))];
  throw new HodError(name === undefined || first !== undefined ? 'output-ambiguous' : 'output-image-missing', {
    what:
      name === undefined || first !== undefined
        ? 'it is not clear which image is meant'
        : 'this build output has no such image',
    object: name === undefined ? path : `${path}#${name}`,
    why:
      images.length === 0
        ? 'it holds no image'
        : `it holds ${images.length} images: ${known.join(', ') || 'without names'}`,
    next: known.length === 0 ? 'write one image or index in it' : `name one of them: ${path}#${known[0] ?? ''}`,
  });
}

/** The error for something that is there, and is no build output of a kind that is understood. */
export function unrecognised(object: string, why: string): HodError {
  return new HodError('output-unrecognised', {
    what: 'this is not a build output that Hod understands',
    object,
    why,
    next: 'let the builder write an OCI image layout, or an image archive with manifest.json: a folder, .tar or .tar.gz',
  });
}
