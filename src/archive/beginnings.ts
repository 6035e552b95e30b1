/** How files begin that are no plain .tar. */
const beginnings = [
  { starts: '1f8b', kind: 'gzip', says: 'it is compressed with gzip' },
  { starts: '28b52ffd', kind: 'zstd', says: 'it is compressed with zstd' },
  { starts: 'fd377a585a00', kind: 'other', says: 'it is compressed with xz' },
  { starts: '425a68', kind: 'other', says: 'it is compressed with bzip2' },
  { starts: '504b0304', kind: 'other', says: 'it is a .zip' },
] as const;

/** What a file is, by its first bytes; undefined for none of the kinds that are told apart so. */
export function beginningOf(
  bytes: Buffer,
): { readonly kind: 'gzip' | 'zstd' | 'other'; readonly says: string } | undefined {
  return beginnings.find(({ starts }) => bytes.toString('hex', 0, starts.length / 2) === starts);
}
