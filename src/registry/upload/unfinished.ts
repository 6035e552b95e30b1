/** Remembers where unfinished uploads go on, also for a later run. */
export interface UnfinishedUploads {
  /** The location to go on at; undefined where none is known, or somebody else is using it. */
  recall(key: string): Promise<string | undefined>;
  remember(key: string, location: string): Promise<void>;
  forget(key: string): Promise<void>;
}

/** Forgets everything when the process ends. */
export function volatileUploads(): UnfinishedUploads {
  const locations = new Map<string, string>();
  return {
    recall: async (key) => locations.get(key),
    remember: async (key, location) => void locations.set(key, location),
    forget: async (key) => void locations.delete(key),
  };
}
