import { isCommitId, shortCommit } from '../commit';
import { mapTexts } from '../json';
import { inert } from '../text';
import type { CloudEvent, EventData } from './announcements';

/** What a receiver is sent, and its media type. */
export interface AnnouncementBody {
  readonly text: string;
  readonly mediaType: string;
}

/** The body that a receiver asks for: a JSON document whose texts may hold placeholders, or plain text. */
export type BodyTemplate = { readonly json: unknown } | { readonly text: string };

/** The names that may stand between braces in a body, and what each stands for. */
const valueOf = {
  text: (event) => sentenceOf(event),
  event: ({ type }) => type.replace(/^hod\./, ''),
  product: ({ data }) => data.product,
  environment: ({ subject }) => subject,
  from: ({ data }) => data.from,
  release: ({ data }) => releaseOf(data),
  version: ({ data }) => data.version,
  commit: ({ data }) => data.commit,
  branch: ({ data }) => data.branch,
  build: ({ data }) => data.build,
  run: ({ data }) => data.run,
  line: ({ data }) => data.line,
  actor: ({ data }) => data.actor,
  reason: ({ data }) => data.reason,
  code: ({ data }) => data.code,
  components: ({ data }) => namesOf(data),
  time: ({ time }) => time,
} as const satisfies Record<string, (event: CloudEvent) => string | null | undefined>;

type BodyPlaceholder = keyof typeof valueOf;

/** A placeholder, and the blank before it: where there is no value, neither is there. */
const placeholder = /( ?)\{([a-z][a-z-]*)\}/g;
const isKnown = (name: string): name is BodyPlaceholder => Object.hasOwn(valueOf, name);

/** The placeholders of bodies. */
export const bodyPlaceholders: readonly string[] = Object.keys(valueOf);

/** Reads a body: a document, or a text; a text that is a JSON document is one. */
export function parseBody(body: unknown): BodyTemplate {
  if (typeof body !== 'string') {
    return { json: body };
  }
  try {
    return /^\s*[[{]/.test(body) ? { json: JSON.parse(body) } : { text: body };
  } catch {
    return { text: body };
  }
}

/** Returns the placeholders of a body that do not exist. */
export function unknownPlaceholders(template: BodyTemplate): string[] {
  const names: string[] = [];
  mapTexts('text' in template ? template.text : template.json, (text) => {
    names.push(...[...text.matchAll(placeholder)].map(([, , name = '']) => name));
    return text;
  });
  return [...new Set(names)].filter((name) => !isKnown(name));
}

/**
 * Fills a body in for an event. A value is one line in which nobody is called by an `@`, and no link is made but of the run; in a
 * JSON document it stays within its text.
 */
export function fillBody(template: BodyTemplate, event: CloudEvent): AnnouncementBody {
  const fill = (text: string): string =>
    text.replace(placeholder, (all, blank: string, name: string) => {
      const value = isKnown(name) ? shown(name, event) : undefined;
      return value === undefined ? all : value === '' ? '' : blank + value;
    });
  return 'text' in template
    ? { text: fill(template.text), mediaType: 'text/plain; charset=utf-8' }
    : { text: JSON.stringify(mapTexts(template.json, fill)), mediaType: 'application/json; charset=utf-8' };
}

/** The most characters of one value. */
const longest = 500;

function shown(name: BodyPlaceholder, event: CloudEvent): string {
  const text = (valueOf[name](event) ?? '').slice(0, longest);
  return name === 'run' && /^https?:\/\/[^\s<>|"\\@]+$/.test(text) ? text : inert(text).replace(/[<>]/g, '');
}

/** What happened, in one sentence. */
function sentenceOf({ type, data }: CloudEvent): string {
  const { product, environment, actor, from = '', reason = '', line, command = '', object = '', rules } = data;
  const release = `${product} ${releaseOf(data)}`.trim();
  switch (type) {
    case 'hod.published':
      return `${actor} published ${release} to ${environment}${wayOf(data)}`;
    case 'hod.promoted':
      return `${actor} promoted ${release} from ${from ?? ''} to ${environment}${wayOf(data)}`;
    case 'hod.adopted':
      return `${actor} recorded that ${environment} serves ${release}`;
    case 'hod.rolled-back':
      return `${actor} rolled ${line === undefined ? '' : `${line} of `}${product} back in ${environment}${backTo(data)}: ${reason}`;
    case 'hod.restored':
      return `${actor} restored tags of ${product} in ${environment}`;
    case 'hod.moved':
      return `${actor} moved ${product} in ${environment} to other repositories: ${reason}`;
    case 'hod.refused':
      return `${command} of ${product} was refused in ${environment} (${object}): ${reason}`;
    case 'hod.rules-accepted':
      return `${actor} accepted other rules for ${environment} of ${product}${rules?.inForce === true ? '' : ' (more people must accept them)'}: ${reason}`;
    case 'hod.base-moved':
      return `${namesOf(data)} of ${product} in ${environment}: the base image moved; build again`;
  }
}

function wayOf({ components = [] }: EventData): string {
  const ways = components.map(({ way }) => way);
  if (ways.length === 0 || ways.includes('takes-over')) {
    return '';
  }
  return ways.includes('beside') ? ', beside what it serves' : ', where it was held';
}

function backTo(data: EventData): string {
  const release = releaseOf(data);
  return release === '' ? '' : ` to ${release}`;
}

/** The release that an event is about; of a rollback, what is served again. */
function releaseOf({ version, commit, components = [] }: EventData): string {
  const [only, ...others] = new Set(components.flatMap((each) => each.version ?? each.commit ?? []));
  const named = version ?? commit ?? (others.length === 0 ? only : undefined);
  return named !== undefined && isCommitId(named) ? shortCommit(named) : (named ?? '');
}

/** The components that an event is about, each once. */
function namesOf({ components = [], bases = [] }: EventData): string {
  return [...new Set([...components, ...bases].map(({ component }) => component))].join(', ');
}
