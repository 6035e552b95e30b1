import picocolors from 'picocolors';

/** Colours by meaning; without a terminal they leave text as it is. */
export interface Style {
  /** A name that the eye looks for. */
  readonly strong: (text: string) => string;
  /** What matters less. */
  readonly faint: (text: string) => string;
  /** Something was done. */
  readonly good: (text: string) => string;
  /** Something was left alone, or deserves a look. */
  readonly notice: (text: string) => string;
  /** Something is wrong. */
  readonly bad: (text: string) => string;
}

/** The style for a stream: colours only on a terminal, and not where they are not wanted. */
export function styleFor(
  stream: { readonly isTTY?: boolean | undefined },
  { color }: { readonly color: boolean },
): Style {
  // Told nothing, the package would decide by itself, and find colours right wherever a CI is.
  const colors = picocolors.createColors(color && stream.isTTY === true && !process.env['NO_COLOR']);
  return { strong: colors.bold, faint: colors.dim, good: colors.green, notice: colors.yellow, bad: colors.red };
}
