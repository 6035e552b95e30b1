import { shortestDigest } from '../ledger/facts';
import { isDigest, type Digest } from '../oci/digest';
import { formatRepository, referenceOrNone, type RepositoryName } from '../oci/reference';
import type { Tag } from '../oci/tag';

/** A reference, a digest or the first digits of one that stands in a text. */
export interface Mention {
  /** What was recognised, and nothing beside it: `registry/name:tag@digest`, `sha256:…`, or hexadecimal digits. */
  readonly text: string;
  readonly repository?: RepositoryName | undefined;
  readonly tag?: Tag | undefined;
  readonly digest?: Digest | undefined;
  /** The first digits of a digest that was shortened. */
  readonly digits?: string | undefined;
  /**
   * Whether the text itself says what it is: `certain` for a digest with its algorithm, and for a reference where images stand;
   * `possible` for bare digits and for what may be a host with a path and a port, which count only where they are known.
   */
  readonly sureness: 'certain' | 'possible';
}

/** A mention, and how often it stands in the text. */
export interface CountedMention {
  readonly mention: Mention;
  readonly times: number;
}

/** The longest that a reference may be: repository, tag and digest (OCI distribution specification, "Pulling manifests"). */
const longest = 1024;
/** What bare digits must have at least to be looked up: tools that shorten digests print twelve or more. */
const bareDigits = 12;
/** A part of a text ends at a space or a quote that is so far back at most. */
const lookBack = 4 * longest;

/**
 * Finds mentions in a text that arrives in pieces, in memory that the text does not determine: no line need end, and colours,
 * escapes of JSON and of URLs stand between or within what is found.
 */
export class MentionReader {
  private readonly found = new Map<string, { mention: Mention; times: number }>();
  /** Bare digits, and how often: logs are full of them, and most are of something else. */
  private readonly digits = new Map<string, number>();
  private rest = '';
  /** The end of what was read before that. */
  private before = '';
  /** Whether the line so far holds references alone. */
  private isList = true;
  private isFull = false;

  /** @param most So many different mentions are kept, and five times as many bare digits. */
  constructor(private readonly most: number) {}

  /** Takes a piece of the text. */
  read(piece: string): void {
    const text = this.rest + piece;
    const end = partEnd(text);
    this.rest = text.slice(end);
    this.take(text.slice(0, end));
  }

  /** Ends the text. */
  end(): void {
    this.take(this.rest);
    this.rest = '';
  }

  get mentions(): readonly CountedMention[] {
    const digits = [...this.digits].map(([text, times]): CountedMention => {
      return { mention: { text, digits: text, sureness: 'possible' }, times };
    });
    return [...this.found.values(), ...digits];
  }

  /** Whether there were more different mentions than are kept. */
  get overflowed(): boolean {
    return this.isFull;
  }

  private take(part: string): void {
    const text = plain(part);
    const lines = text.split(/[\n\r]/);
    for (const [at, line] of lines.entries()) {
      // Most lines hold nothing for which that matters.
      let known: boolean | undefined;
      const isList = (): boolean => (known ??= (at > 0 || this.isList) && isListOfReferences(line));
      const context = at > 0 ? '' : this.before;
      for (const { 0: word, index } of line.matchAll(wordForm)) {
        if (mayMention(word)) {
          const before = (): string =>
            (index < keyLength ? context : '') + line.slice(Math.max(0, index - keyLength), index);
          mentionsIn(word, () => isList() || imageKey.test(before())).forEach((mention) => {
            this.add(mention);
          });
        }
      }
      if (at === lines.length - 1) {
        this.isList = isList();
      }
    }
    this.before = (this.before + text).slice(-keyLength);
  }

  private add(mention: Mention): void {
    const { text } = mention;
    if (mention.digits === text) {
      this.addDigits(text);
      return;
    }
    const known = this.found.get(text);
    if (known !== undefined) {
      known.times += 1;
      if (mention.sureness === 'certain') {
        known.mention = mention;
      }
    } else if (this.found.size >= this.most) {
      this.isFull = true;
    } else {
      this.found.set(copied(text), { mention: copiedMention(mention), times: 1 });
    }
  }

  private addDigits(text: string): void {
    const times = this.digits.get(text);
    if (times !== undefined) {
      this.digits.set(text, times + 1);
    } else if (this.digits.size >= 5 * this.most) {
      this.isFull = true;
    } else {
      this.digits.set(copied(text), 1);
    }
  }
}

/**
 * Where a text may be cut without cutting a mention: after a space or a quote, or else after what no reference has in it; a word
 * that goes on for longer is none.
 */
function partEnd(text: string): number {
  const from = Math.max(0, text.length - lookBack);
  for (const cut of [/[\s"'`](?=[^\s"'`]*$)/, /[,;<>(){}|=](?=[^,;<>(){}|=]*$)/]) {
    const at = text.slice(from).search(cut);
    if (at >= 0) {
      return from + at + 1;
    }
  }
  return Math.max(0, text.length - longest);
}

const escape = '\u001b';
/** What sets colours, moves cursors and makes links (ECMA-48 §5.4, and the commands of terminals that end with a bell or `ESC \\`). */
const terminalSequence = new RegExp(
  `${escape}(?:\\[[0-?]*[ -/]*[@-~]|\\][^\\u0007${escape}]*(?:\\u0007|${escape}\\\\))`,
  'g',
);

/** A text without what acts on terminals, and with the escapes of JSON and of URLs taken back where they matter here. */
function plain(text: string): string {
  const shown = text.includes(escape) ? text.replace(terminalSequence, '') : text;
  const unescaped = shown.includes('\\')
    ? shown.replace(jsonEscape, (found) => (found === '\\/' ? '/' : escaped(found)))
    : shown;
  return unescaped.includes('%')
    ? unescaped.replace(/%(?:3a|2f|40)/gi, (found) => decodeURIComponent(found))
    : unescaped;
}

/** Colours within JSON are nothing; ends of lines within it separate words. */
const jsonEscape = /\\(?:u001b\[[0-9;]*m|x1b\[[0-9;]*m|[nrt]|\/|")/gi;
const escaped = (found: string): string => (/^\\(?:u|x)/i.test(found) ? '' : ' ');

/** What a reference or a digest is written with; a host may be an IPv6 address in brackets. */
const wordForm = /\[[0-9A-Fa-f:.]{2,45}\][:/][A-Za-z0-9._\-+:/@]*|[A-Za-z0-9][A-Za-z0-9._\-+:/@]*/g;

/** Most words of a text can be seen to be no mention. */
function mayMention(word: string): boolean {
  const { length } = word;
  return (
    length >= shortestDigest && length <= longest && (word.includes(':') || /^[a-f0-9]{12,128}\W*$|256-/.test(word))
  );
}

/** Whether a line, or the next part of one, holds references alone. */
function isListOfReferences(line: string): boolean {
  const words = line.trim().split(/[\s,]+/);
  return words.every((word) => word === '' || (mayMention(word) && isReferenceWord(word)));
}

/** A key under which images stand: `image:`, `"imageID": "`, `image=`; so many characters are looked at. */
const keyLength = 24;
const imageKey = /image(?:[_-]?(?:id|ref|name|reference))?["']?\s*[:=]\s*["']?$/i;

/** Schemes that node agents write before references and digests; what has another one is the address of something else. */
const scheme = /^([a-z][a-z0-9+.-]*):\/\//i;
const imageSchemes = /^(?:docker|docker-pullable|containerd|cri-o|oci|docker-image)$/i;
/** A digest, and what stands before it in the word; tags that stand for referrers name it with `-`. */
const digestForm = /(^|[^A-Za-z0-9])(sha256|sha512)([:-])([a-f0-9]{8,128})(?![A-Za-z0-9])/g;
/** `file.go:12` after a path: where something happened in a program. */
const placeInFile = /\.[a-z]{1,5}:\d+$/i;

function isReferenceWord(word: string): boolean {
  return mentionsIn(word, () => true).some(({ sureness }) => sureness === 'certain');
}

/** The mentions in a word. */
function mentionsIn(word: string, isImage: () => boolean): Mention[] {
  const trimmed = word.replace(/[.:/@+-]+$/, '');
  if (isDigest(trimmed)) {
    return [{ text: trimmed, digest: trimmed, sureness: 'certain' }];
  }
  if (trimmed.includes('sha')) {
    const digests = [...trimmed.matchAll(digestForm)];
    const found = digests.flatMap(({ 1: mark = '', 2: algorithm = '', 3: sign, 4: digits = '', index }) =>
      digestMention(trimmed.slice(0, index), { mark, algorithm, sign, digits }),
    );
    if (digests.length > 0) {
      return found;
    }
  }
  if (/^[a-f0-9]+$/.test(trimmed)) {
    const isLong = trimmed.length >= bareDigits && trimmed.length <= 128;
    return isLong ? [{ text: trimmed, digits: trimmed, sureness: 'possible' }] : [];
  }
  return tagMention(trimmed, isImage);
}

interface FoundDigest {
  readonly mark: string;
  readonly algorithm: string;
  readonly sign: string | undefined;
  readonly digits: string;
}

function digestMention(before: string, { mark, algorithm, sign, digits }: FoundDigest): Mention[] {
  const whole = `${algorithm}:${digits}`;
  if (isDigest(whole)) {
    const reference = mark === '@' ? referenceIn(before) : undefined;
    const text = reference === undefined ? whole : `${reference.text}@${whole}`;
    return [{ text, repository: reference?.repository, tag: reference?.tag, digest: whole, sureness: 'certain' }];
  }
  const isShortened = sign === ':' && digits.length < (algorithm === 'sha256' ? 64 : 128);
  return isShortened ? [{ text: whole, digits, sureness: 'certain' }] : [];
}

/** A reference by tag. Many things have the form of one. */
function tagMention(word: string, isImage: () => boolean): Mention[] {
  if (!word.includes('/') || !/:[\w][\w.-]{0,127}$/.test(word) || placeInFile.test(word)) {
    return [];
  }
  const reference = referenceIn(word);
  return reference?.tag === undefined ? [] : [{ ...reference, sureness: isImage() ? 'certain' : 'possible' }];
}

/** The reference that a text ends with; a scheme and a login before it are no part of it. */
function referenceIn(text: string): Pick<Mention, 'text' | 'repository' | 'tag'> | undefined {
  const [before = '', name = ''] = scheme.exec(text) ?? [];
  if (before !== '' && !imageSchemes.test(name)) {
    return undefined;
  }
  const found = referenceOrNone(text.slice(before.length).replace(/^.*@/, ''));
  if (found === undefined) {
    return undefined;
  }
  const own = formatRepository(found.repository);
  return { text: found.tag === undefined ? own : `${own}:${found.tag}`, repository: own, tag: found.tag };
}

/** The same, without the piece of the text that it was cut from, which it would keep in memory. */
function copiedMention(mention: Mention): Mention {
  return structuredClone(mention);
}

function copied(text: string): string {
  return Buffer.from(text, 'latin1').toString('latin1');
}
