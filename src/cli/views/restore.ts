import { formatCount, formatSeconds } from '../../core/amounts';
import type { RestoreResult } from '../../results/restore';
import type { Screen } from '../answer';
import { tagCounts, tagLines } from './components';

/** What `restore` answers to people. */
export function restoreView(result: RestoreResult, { style, elapsed }: Screen): string {
  const { environment, components, tags, requests, dryRun } = result;
  const name = style.strong(environment);
  const count = components.reduce((sum, each) => sum + each.tags.length, 0);
  const looked = style.faint(
    `${formatCount(tags, 'tag')} checked, ${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`,
  );
  if (count === 0) {
    return [`Nothing to do: every tag of ${name} stands where the ledger says`, looked].join('\n\n');
  }
  return [
    `${dryRun ? 'Would restore' : 'Restored'} ${formatCount(count, 'tag')} of ${name}`,
    ...components.map(({ component, repository, tags: own }) =>
      [`${style.strong(component)}  ${repository}`, ...tagLines(own, style)].join('\n'),
    ),
    `${tagCounts(components, style)}\n${looked}`,
  ].join('\n\n');
}
