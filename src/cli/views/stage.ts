import { shortCommit } from '../../core/commit';
import type { StageResult } from '../../results/stage';
import type { Screen } from '../answer';
import { componentHead, componentLines, nameList } from './components';
import { totalLine, transferLine } from './transfer';

/** What `stage` answers to people. */
export function stageView(result: StageResult, screen: Screen): string {
  const { style, verbose } = screen;
  const build = `${style.strong(result.product)} (${shortCommit(result.commit)})`;
  const staged = result.components.filter(({ outcome }) => outcome === 'staged');
  const unchanged = result.components.filter(({ outcome }) => outcome === 'unchanged');
  const verb = result.dryRun ? 'Would stage' : 'Staged';
  const title =
    staged.length === 0
      ? `Nothing to do: ${result.environment} has all this of ${build} already`
      : `${verb} for ${build} in ${style.strong(result.environment)}; no tag was moved`;
  const shown = verbose
    ? [...staged, ...unchanged].map((component) => {
        const paint = component.outcome === 'staged' ? style.good : style.faint;
        const transfer = style.faint(transferLine(component.transfer, result));
        return [...componentHead(component, style), `  ${paint(component.outcome)}  ${transfer}`].join('\n');
      })
    : staged.length === 0
      ? []
      : [componentLines(staged, style).join('\n')];
  const counted = verbose || unchanged.length === 0 ? [] : [style.faint(`unchanged: ${nameList(unchanged)}`)];
  const missing = result.missing.map(({ component, missing: what }) => `  ${component}: ${what.join(', ')}`);
  const rest =
    missing.length === 0
      ? style.good('Everything is there: `hod publish` can write its tags.')
      : [style.notice('Publishing still needs:'), ...missing].join('\n');
  return [title, ...shown, ...counted, rest, totalLine(result, screen)].join('\n\n');
}
