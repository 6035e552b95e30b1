/** What Hod keeps on a machine. */
export const ownKinds = ['ledger', 'uploads', 'git', 'contents', 'user', 'other', 'unfinished', 'temporary'] as const;
type OwnKind = (typeof ownKinds)[number];

/** What lies in a folder of Hod's: a file, or in the system's temporary folder what one run put there. */
export interface FoundFiles {
  /** The folder: beside hod.yaml, of this user, or the system's for temporary files. */
  readonly of: 'product' | 'user' | 'temporary';
  readonly folder: string;
  /** Its path below that, with slashes. */
  readonly path: string;
  readonly files: number;
  readonly bytes: number;
  /** When it was written last, in milliseconds. */
  readonly written: number;
}

/** How many files there are, and how large they are together. */
interface Counted {
  readonly files: number;
  readonly bytes: number;
}

/** Files of one kind that Hod keeps on a machine. */
export interface OwnFiles extends Counted {
  readonly kind: OwnKind;
  /** Where they are: a file or a folder. */
  readonly place: string;
  /** Those that nothing needs any more. */
  readonly goes: Counted;
}

/** How long, in milliseconds, an upload that broke off can go on, and a run may take: registries forget uploads, too. */
export const inProgressFor = 24 * 60 * 60 * 1000;

/** The name of a file that `writeFile` prepares, and of a lock that was set aside. */
const unfinished = /\.[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}(?:\.new)?$/;

/** Whether nothing needs a file any more: a run that was killed left it behind. */
export function isLeftBehind(found: FoundFiles, now: number): boolean {
  return ['uploads', 'unfinished', 'temporary'].includes(kindOf(found)) && now - found.written > inProgressFor;
}

/** Adds up what Hod keeps on a machine, place by place. */
export function sumOwnFiles(all: readonly FoundFiles[], now: number): OwnFiles[] {
  const places = new Map<string, OwnFiles>();
  for (const found of all) {
    const kind = kindOf(found);
    const place = placeOf(found, kind);
    const key = `${kind} ${place}`;
    const none = { files: 0, bytes: 0 };
    const known = places.get(key) ?? { kind, place, ...none, goes: none };
    const goes = isLeftBehind(found, now) ? plus(known.goes, found) : known.goes;
    places.set(key, { kind, place, ...plus(known, found), goes });
  }
  return [...places.values()];
}

function plus(one: Counted, other: Counted): Counted {
  return { files: one.files + other.files, bytes: one.bytes + other.bytes };
}

function kindOf({ of, path }: FoundFiles): OwnKind {
  const [first = ''] = path.split('/');
  if (of === 'temporary') {
    return 'temporary';
  }
  // What git writes below its folder is git's to remove.
  if (of === 'product' && first === 'git') {
    return 'git';
  }
  if (unfinished.test(path)) {
    return 'unfinished';
  }
  if (of === 'user') {
    return 'user';
  }
  switch (first) {
    case 'uploads':
      return 'uploads';
    case 'contents.jsonl':
      return 'contents';
    default:
      return first.startsWith('ledger') ? 'ledger' : 'other';
  }
}

/** Files of a kind that lie together are one place. */
function placeOf({ folder, path }: FoundFiles, kind: OwnKind): string {
  switch (kind) {
    case 'uploads':
    case 'git':
      return `${folder}/${kind}`;
    case 'ledger':
      // Beside a database of SQLite lie its log and the index of that.
      return `${folder}/${path.replace(/-(?:wal|shm)$/, '')}`;
    case 'contents':
    case 'user':
      return `${folder}/${path}`;
    default:
      return folder;
  }
}
