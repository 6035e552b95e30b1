import { laneName } from './lane';
import type { SealedEntry } from './entry';
import type { PlacedComponent } from './release';
import type { ReleaseSet } from './release-set';

/** What may be announced. */
export const announcedKinds = [
  'published',
  'promoted',
  'adopted',
  'rolled-back',
  'restored',
  'moved',
  'refused',
  'base-moved',
  'rules-accepted',
] as const;
export type AnnouncedKind = (typeof announcedKinds)[number];

/** An event (CloudEvents 1.0, "Context Attributes"), as the structured mode of its JSON format writes it. */
export interface CloudEvent {
  readonly specversion: '1.0';
  /** The hash of the entry: another event never has it, and the same event sent twice has the same. */
  readonly id: string;
  readonly source: string;
  readonly type: `hod.${AnnouncedKind}`;
  readonly subject: string;
  readonly time: string;
  /** Events of one source stand in the order of this text (the extension "sequence"). */
  readonly sequence: string;
  readonly datacontenttype: 'application/json';
  readonly data: EventData;
}

/** What an entry is announced as; undefined where it is nothing that is announced. */
export function eventOf({ entry, hash }: SealedEntry, kinds: readonly AnnouncedKind[]): CloudEvent | undefined {
  const { product, seq, at, actor, action } = entry;
  const kind = kinds.find((each) => each === action.kind);
  const data = kind === undefined ? undefined : dataOf(action);
  return kind === undefined || data === undefined
    ? undefined
    : {
        specversion: '1.0',
        id: hash,
        source: `hod/${product}`,
        type: `hod.${kind}`,
        subject: data.environment,
        time: at,
        sequence: String(seq).padStart(12, '0'),
        datacontenttype: 'application/json',
        data: { product, seq, actor, ...data },
      };
}

/** What is told of an action; each kind has some of it (docs/announcements.md). */
export interface EventData {
  readonly product: string;
  readonly seq: number;
  readonly actor: string;
  readonly environment: string;
  readonly from?: string | null | undefined;
  readonly version?: string | undefined;
  readonly commit?: string | undefined;
  readonly branch?: string | undefined;
  readonly build?: string | undefined;
  readonly run?: string | undefined;
  readonly line?: string | undefined;
  readonly reason?: string | undefined;
  readonly command?: string | undefined;
  readonly code?: string | undefined;
  readonly object?: string | undefined;
  readonly components?: readonly {
    readonly component: string;
    readonly way?: string | undefined;
    /** Of a rollback: what is served again. */
    readonly version?: string | undefined;
    readonly commit?: string | undefined;
  }[];
  readonly retires?: readonly string[];
  /** The products that it happened to in one step. */
  readonly set?: ReleaseSet | undefined;
  readonly tags?: readonly object[];
  readonly places?: readonly object[];
  readonly bases?: readonly { readonly component: string }[];
  readonly rules?: { readonly digest: string; readonly inForce: boolean };
}

function dataOf(action: SealedEntry['entry']['action']): Omit<EventData, 'product' | 'seq' | 'actor'> | undefined {
  switch (action.kind) {
    case 'published':
    case 'promoted':
    case 'adopted': {
      const { environment, version, commit, branch, build, run, components, arrivals, retires = [] } = action;
      const ways = new Map(arrivals.map(({ component, way }) => [component, way]));
      return {
        environment,
        ...(action.kind === 'promoted' ? { from: action.from, set: action.set } : {}),
        ...(action.kind === 'adopted' ? { reason: action.reason } : {}),
        ...{ version, commit, branch, build, run },
        components: components.map((each) => ({ ...placeOf(each), way: ways.get(each.component) })),
        ...(retires.length === 0 ? {} : { retires }),
      };
    }
    case 'rolled-back': {
      const { environment, reason, served, lanes, left, set } = action;
      const changed = left === undefined ? served : lanes.filter(({ lane }) => lane === left.lane);
      return {
        ...{ environment, reason, set },
        ...(left === undefined ? {} : { line: laneName(left.lane) }),
        components: changed.map(({ component, is }) =>
          is === null ? { component, digest: null } : { ...placeOf(is), version: is.version, commit: is.commit },
        ),
      };
    }
    case 'restored': {
      const { environment, tags } = action;
      return { environment, tags };
    }
    case 'moved': {
      const { environment, reason, places } = action;
      return { environment, reason, places };
    }
    case 'refused': {
      const { environment, command, code, object, reason } = action;
      return { environment, command, code, object, reason };
    }
    case 'rules-accepted': {
      const { environment, reason, digest, inForce = false } = action;
      return { environment, reason, rules: { digest, inForce } };
    }
    case 'base-moved':
      return { environment: action.environment, bases: action.bases };
    default:
      return undefined;
  }
}

function placeOf({
  component,
  repository,
  digest,
}: PlacedComponent): Pick<PlacedComponent, 'component' | 'repository' | 'digest'> {
  return { component, repository, digest };
}

/** The header in which the body of an announcement is signed: HMAC-SHA-256 (RFC 2104) over its bytes, in hexadecimal digits. */
export const signatureHeader = 'hod-body-hmac';
