/** The parts of a version that can be counted up. */
export const versionParts = ['major', 'minor', 'patch'] as const;
export type VersionPart = (typeof versionParts)[number];
