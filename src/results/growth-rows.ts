import { formatBytes, formatCount } from '../core/amounts';
import type { StatusResult } from './status';

type Growth = NonNullable<StatusResult['growth']>[number];
type Share = Growth['shares'][number];

/** How long "lately" is, in milliseconds: four weeks. */
const lately = 28 * 86_400_000;

/** A repository as tables tell it. */
export interface GrowthRow {
  readonly repository: string;
  /** Bytes where they are known, else nothing. */
  readonly holds: string;
  readonly digests: string;
  /** The part that `hod tidy` would remove, in percent. */
  readonly mayGo: string;
  /** What came and went in the last four weeks: `+56 −12`. */
  readonly change: string;
  /** What parts of it are there for, the largest first. */
  readonly shares: string;
}

/** How repositories grow: the largest first. */
export function growthRows(growth: readonly Growth[], now: Date): GrowthRow[] {
  const weight = ({ bytes, digests }: Growth): number => bytes ?? digests;
  return [...growth]
    .sort((a, b) => weight(b) - weight(a))
    .map((each) => ({
      repository: each.repository,
      holds: each.bytes === null ? '' : formatBytes(each.bytes),
      digests: `${each.digests}`,
      mayGo: partText(partsOf([each]), mayGo),
      change: changeOf(each, now),
      shares: sharesText(partsOf([each])),
    }));
}

/** What all repositories hold, and what parts of that are there for. */
export function growthTotal(growth: readonly Growth[]): string {
  const bytes = growth.flatMap((each) => each.bytes ?? []);
  const digests = growth.reduce((sum, each) => sum + each.digests, 0);
  const unasked = growth.length - bytes.length;
  const held =
    bytes.length === 0
      ? formatCount(digests, 'digest')
      : `${formatBytes(bytes.reduce((sum, each) => sum + each, 0))} in ${formatCount(digests, 'digest')}`;
  const silent =
    bytes.length > 0 && unasked > 0 ? ` (${formatCount(unasked, 'repository', 'repositories')} did not answer)` : '';
  const verb = growth.length === 1 ? 'holds' : 'hold';
  const names = formatCount(growth.length, 'repository', 'repositories');
  return `${names} ${verb} ${held}${silent}: ${sharesText(partsOf(growth))}`;
}

function changeOf({ weeks }: Growth, now: Date): string {
  const late = weeks.filter(({ week }) => Date.parse(week) > now.getTime() - lately);
  const sum = (of: 'added' | 'removed'): number => late.reduce((total, each) => total + each[of], 0);
  return `+${sum('added')}${sum('removed') === 0 ? '' : ` −${sum('removed')}`}`;
}

const mayGo = 'may go';

/** How much is there for what: bytes, or digests where not all bytes are known. */
function partsOf(growth: readonly Growth[]): Map<string, number> {
  const inBytes = growth.every(({ bytes }) => bytes !== null);
  const parts = new Map<string, number>();
  for (const share of growth.flatMap(({ shares }) => shares)) {
    const text = shareText(share);
    parts.set(text, (parts.get(text) ?? 0) + (inBytes ? (share.bytes ?? 0) : share.digests));
  }
  return parts;
}

function sharesText(parts: ReadonlyMap<string, number>): string {
  return [...parts]
    .sort(([, a], [, b]) => b - a)
    .map(([text]) => `${text} ${partText(parts, text)}`)
    .join(', ');
}

function partText(parts: ReadonlyMap<string, number>, of: string): string {
  const whole = [...parts.values()].reduce((sum, part) => sum + part, 0);
  return percent(parts.get(of) ?? 0, whole);
}

function percent(part: number, whole: number): string {
  const share = whole === 0 ? 0 : (100 * part) / whole;
  return share > 0 && share < 1 ? '< 1 %' : `${Math.round(share)} %`;
}

function shareText({ why, environment }: Share): string {
  const name = environment ?? '';
  switch (why) {
    case 'served':
      return `${name} serves`;
    case 'tag':
      return `moving tags of ${name}`;
    case 'rollback':
      return `rollbacks of ${name}`;
    case 'withdrawn':
      return `withdrawn from ${name}`;
    case 'released':
      return `versions that ${name} has served`;
    case 'releases':
    case 'branches':
    case 'time':
      return `rules of ${name}`;
    case 'uploaded':
      return 'uploads of the last day';
    case 'all':
      return `${name} keeps everything`;
    case 'shared':
      return 'other products';
    case 'led':
      return 'other tags';
    case 'part':
      return 'parts of what stays';
    case 'unknown':
      return 'unknown to the ledger';
    case 'goes':
      return mayGo;
  }
}
