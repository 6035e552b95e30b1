import { shortCommit } from '../../core/commit';
import type { StageResult } from '../../results/stage';
import type { Screen } from '../answer';
import { imageHead, imageLines, nameList } from './images';
import { totalLine, transferLine } from './transfer';

/** What `stage` answers to people. */
export function stageView(result: StageResult, screen: Screen): string {
  const { style, verbose } = screen;
  const build = `${style.strong(result.product)} (${shortCommit(result.commit)})`;
  const staged = result.images.filter(({ outcome }) => outcome === 'staged');
  const unchanged = result.images.filter(({ outcome }) => outcome === 'unchanged');
  const verb = result.dryRun ? 'Would stage' : 'Staged';
  const title =
    staged.length === 0
      ? `Nothing to do: ${result.environment} has all this of ${build} already`
      : `${verb} for ${build} in ${style.strong(result.environment)}; no tag was moved`;
  const shown = verbose
    ? [...staged, ...unchanged].map((image) => {
        const paint = image.outcome === 'staged' ? style.good : style.faint;
        const transfer = style.faint(transferLine(image.transfer));
        return [...imageHead(image, style), `  ${paint(image.outcome)}  ${transfer}`].join('\n');
      })
    : staged.length === 0
      ? []
      : [imageLines(staged, style).join('\n')];
  const counted = verbose || unchanged.length === 0 ? [] : [style.faint(`unchanged: ${nameList(unchanged)}`)];
  const missing = result.missing.map(({ image, missing: what }) => `  ${image}: ${what.join(', ')}`);
  const rest =
    missing.length === 0
      ? style.good('Everything is there: `hod publish` can write its tags.')
      : [style.notice('Publishing still needs:'), ...missing].join('\n');
  return [title, ...shown, ...counted, rest, totalLine(result.images, screen)].join('\n\n');
}
