import type { StageResult } from '../../operations/results';
import { imageHead, totalLine, transferLine } from './delivery';
import { shortCommit } from './format';
import type { Style } from './style';

/** What `stage` answers to people. */
export function stageView(result: StageResult, style: Style, elapsed: number): string {
  const build = `${style.strong(result.product)} (${shortCommit(result.commit)})`;
  const unchanged = result.images.every(({ outcome }) => outcome === 'unchanged');
  const verb = result.dryRun ? 'Would stage' : 'Staged';
  const title = unchanged
    ? `Nothing to do: ${result.environment} has all this of ${build} already`
    : `${verb} for ${build} in ${style.strong(result.environment)}; no tag was moved`;
  const images = result.images.map((image) =>
    [
      ...imageHead(image, style),
      `  ${image.outcome === 'staged' ? style.good('staged') : style.faint('unchanged')}  ${style.faint(transferLine(image.transfer))}`,
    ].join('\n'),
  );
  const lacking = result.lacking.map(({ image, lacks }) => `  ${image}: ${lacks.join(', ')}`);
  const rest =
    lacking.length === 0
      ? style.good('Everything is there: `hod publish` can seal it.')
      : [style.notice('Publishing still needs:'), ...lacking].join('\n');
  return [title, ...images, rest, totalLine(result.images, style, elapsed)].join('\n\n');
}
