import * as z from 'zod';
import { HodError } from '../errors';

/** The platform that an image runs on (OCI image specification, image-index.md, `platform`). */
export interface Platform {
  os: string;
  architecture: string;
  /** The variant of the processor, such as `v7` of `arm`. */
  variant?: string | undefined;
  /** The version of the operating system; tells Windows images apart. */
  'os.version'?: string | undefined;
}

/** A platform at an edge. Keys that Hod does not use are left out of the parsed form only. */
export const platformSchema = z.object({
  os: z.string(),
  architecture: z.string(),
  variant: z.string().optional(),
  'os.version': z.string().optional(),
});

const part = /^[a-z0-9][a-z0-9._-]*$/;

/** Reads `os/arch[/variant]`. Throws a `usage` error if `text` has another form. */
export function parsePlatform(text: string): Platform {
  const [os, architecture, variant, ...rest] = text.split('/');
  const parts = [os, architecture, variant].filter((each) => each !== undefined);
  if (!os || !architecture || rest.length > 0 || !parts.every((each) => part.test(each))) {
    throw new HodError('not-a-platform', {
      what: 'this is not a platform',
      object: text,
      why: 'a platform is os/arch or os/arch/variant',
      next: 'write it so, for example linux/arm64',
    });
  }
  return normalPlatform({ os, architecture, variant });
}

/** The variant that an architecture without one means; writers differ in whether they state it. */
const impliedVariant: Readonly<Record<string, string>> = { arm64: 'v8', amd64: 'v1' };

/**
 * One form for equal platforms: `arm64/v8` is `arm64`, `amd64/v1` is `amd64`, and `arm` without a
 * variant is `arm/v7`.
 */
export function normalPlatform(platform: Platform): Platform {
  const { os, architecture, variant } = platform;
  const normal: Platform = { os, architecture };
  if (architecture === 'arm') {
    normal.variant = variant || 'v7';
  } else if (variant && variant !== impliedVariant[architecture]) {
    normal.variant = variant;
  }
  if (platform['os.version']) {
    normal['os.version'] = platform['os.version'];
  }
  return normal;
}

/** `os/arch[/variant]` of the normal form. */
export function formatPlatform(platform: Platform): string {
  const { os, architecture, variant } = normalPlatform(platform);
  return [os, architecture, variant].filter((each) => each !== undefined).join('/');
}

/** A text that is equal for, and only for, platforms that one index cannot hold twice; sorts members. */
export function platformKey(platform: Platform): string {
  const version = platform['os.version'];
  return formatPlatform(platform) + (version ? `@${version}` : '');
}

/** Whether an index entry is for something that runs; builders list other things as `unknown`. */
export function isRunnable(platform: Platform): boolean {
  return platform.os !== 'unknown' && platform.architecture !== 'unknown';
}
