/** A demand for a login, as a registry states it (RFC 9110 §11.6.1). */
export interface Challenge {
  /** Lower case: `basic`, `bearer`. */
  scheme: string;
  /** By lower-case name. */
  parameters: ReadonlyMap<string, string>;
}

/** The next piece of a header, from where the last one ended: a parameter, a word, what lies between, or anything else. */
const piece = /([\w-]+)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s,"]+))|([A-Za-z][\w-]*)(?=[\s,]|$)|([\s,]+)|[^\s,]+/gy;

/** Reads the value of `WWW-Authenticate`, which may state several challenges. */
export function parseChallenges(header: string): Challenge[] {
  const challenges: { scheme: string; parameters: Map<string, string> }[] = [];
  let begins = true;
  for (const [, name, quoted, bare, word, between] of header.matchAll(piece)) {
    if (word !== undefined && begins) {
      challenges.push({ scheme: word.toLowerCase(), parameters: new Map() });
    }
    if (name !== undefined) {
      challenges.at(-1)?.parameters.set(name.toLowerCase(), quoted?.replace(/\\(.)/g, '$1') ?? bare ?? '');
    }
    begins = between?.includes(',') === true || (begins && between !== undefined);
  }
  return challenges;
}

/** What a request needs of a repository; the least that will do. */
export interface Scope {
  /** The name of the repository within its registry. */
  repository: string;
  /** Deleting includes writing, which includes reading. */
  access: 'read' | 'write' | 'delete';
}

const actionsOf = { read: 'pull', write: 'pull,push', delete: 'pull,push,delete' } as const;
const rankOf = { read: 0, write: 1, delete: 2 } as const;

/** Scopes in the words of token services: `repository:skerry/timetable:pull,push`. */
export function formatScopes(scopes: readonly Scope[]): string[] {
  return scopes.map(({ repository, access }) => `repository:${repository}:${actionsOf[access]}`).sort();
}

/** Whether a token for `granted` is enough for a request that needs `wanted`. */
export function coversScopes(granted: readonly Scope[], wanted: readonly Scope[]): boolean {
  return wanted.every(({ repository, access }) =>
    granted.some((each) => each.repository === repository && rankOf[each.access] >= rankOf[access]),
  );
}
