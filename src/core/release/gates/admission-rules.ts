import type { FreezeWindow } from './freeze-window';

/** What an environment asks of a release before it lets it in. */
export interface AdmissionRules {
  /** Names of results that must have passed in the environment before. */
  readonly results: readonly string[];
  /** How many people must have signed off. */
  readonly signOffs: number;
  /** How long the environment before must have served it, in milliseconds; 0 where that does not matter. */
  readonly soak: number;
  readonly freeze: readonly FreezeWindow[];
  /** Platforms that every component must have. */
  readonly platforms: readonly string[];
  /** Annotations that every component must have. */
  readonly annotations: readonly string[];
  /** The artifact types of the referrers that every image must have. */
  readonly referrers: readonly string[];
}

/** The rules of an environment that lets everything in. */
export const noAdmissionRules: AdmissionRules = {
  results: [],
  signOffs: 0,
  soak: 0,
  freeze: [],
  platforms: [],
  annotations: [],
  referrers: [],
};
