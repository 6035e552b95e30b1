import { shortCommit } from '../../core/commit';
import type { Way } from '../../core/ledger/way';
import { inert, visible } from '../../core/text';
import type { PromoteResult } from '../../results/promote';
import type { PublishResult } from '../../results/publish';

/** What a CI is told of: a publication or a promotion. */
export type CiReport = (PublishResult | PromoteResult) & { build?: string | null };

/** A Markdown table of what was done, and how to pull it by digest. */
export function summaryTable(report: CiReport): string {
  const version = report.version === null ? '' : ` ${report.version}`;
  const [verb, where] =
    'environment' in report ? (['Published to', report.environment] as const) : (['Promoted to', report.to] as const);
  const title = `### ${report.product}${version}: ${report.dryRun ? 'Dry run for' : verb} ${where}`;
  const rows = report.components.map(({ component, kind, artifactType, platforms, tags, repository, digest }) => {
    const set = tags.filter(({ outcome }) => outcome !== 'held').map(({ tag }) => `\`${tag}\``);
    const held = tags
      .filter(({ outcome }) => outcome === 'held')
      .map(({ tag, reason }) => `\`${tag}\` held: ${cell(reason)}`);
    const runs =
      kind === 'image' ? platforms.map(cell).join('<br>') : kind === 'bundle' ? 'files' : cell(artifactType ?? '');
    return `| ${component} | ${runs} | ${[...set, ...held].join('<br>')} | ${codeReference(`${repository}@${digest}`)} |`;
  });
  return [
    title,
    '',
    `${report.commit === null ? 'Several releases' : `Commit \`${shortCommit(report.commit)}\``}${report.build === undefined || report.build === null ? '' : `, build ${cell(report.build)}`}`,
    '',
    '| component | platforms | tags | pull by digest |',
    '| --- | --- | --- | --- |',
    ...rows,
    '',
    ...besideLines(report),
  ].join('\n');
}

/** What the environment goes on serving instead, where that is so. */
function besideLines({ components }: CiReport): string[] {
  const reasons = new Set(components.filter(({ way }) => way !== 'takes-over').map(({ wayReason }) => wayReason));
  return reasons.size === 0 ? [] : [...[...reasons].map((reason) => `Does not take over: ${cell(reason)}`), ''];
}

/**
 * `KEY=value` lines: what came of it (`OUTCOME`: `served` where all of it takes over, else `beside` or `held`), the
 * version, the commit, and the same of each component, with its digest, its reference, and those of the tags that lead to it, with
 * commas between them. `several`: the keys of each product
 * begin with its name.
 */
export function outputLines(report: CiReport, { several }: { readonly several: boolean }): string {
  // No name of a product or component has so many in a row: keys of different ones differ.
  const prefix = several ? `${keyOf(report.product)}____` : '';
  const components = report.components.flatMap(({ component, repository, digest, way, tags }) => {
    const key = keyOf(component);
    const leading = tags.filter(({ outcome }) => !['held', 'removed', 'refused'].includes(outcome));
    return [
      `${key}_DIGEST=${digest}`,
      `${key}_REFERENCE=${repository}@${digest}`,
      `${key}_TAGS=${leading.map(({ tag }) => `${repository}:${tag}`).join(',')}`,
      `${key}_OUTCOME=${outcomes[way]}`,
    ];
  });
  const ways = report.components.map(({ way }) => way);
  const whole = (['held', 'beside'] as const).find((way) => ways.includes(way)) ?? 'takes-over';
  const head = { OUTCOME: outcomes[whole], VERSION: report.version ?? '', COMMIT: report.commit ?? '' };
  const lines = [...Object.entries(head).map(([key, value]) => `${key}=${value}`), ...components];
  return lines.map((line) => prefix + line).join('\n');
}

/** What a deploying step asks: whether the environment serves it now. */
const outcomes: Readonly<Record<Way, string>> = { 'takes-over': 'served', beside: 'beside', held: 'held' };

/** The name of a component as the beginning of a variable. Names that differ have keys that differ. */
function keyOf(component: string): string {
  return component.toUpperCase().replaceAll('_', '___').replaceAll('.', '__').replaceAll('-', '_');
}

/** A reference as Markdown shows it, to be copied: nothing in code is markup, and it must stay what it is. */
export function codeReference(reference: string): string {
  return `\`${visible(reference).replace(/[`|]/g, '')}\``;
}

/**
 * A text from outside as Markdown shows it, in a cell: nothing in it is markup, nobody is called by it, no link is made of it,
 * and it stays in its line.
 */
export function cell(text: string): string {
  return inert(text).replace(/[\\`*_[\]<>#|&~!$]/g, (character) => `&#${character.charCodeAt(0)};`);
}
