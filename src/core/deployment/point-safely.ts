import type { Target } from './parts';
import { point, type Pointed } from './pointing';
import { readsTheSame, type Spots } from './spots';

/** The text of a deployment file, and where references may stand in it. */
interface DeploymentText {
  readonly text: string;
  readonly spots: Spots;
}

/**
 * Points the references in a deployment file. What is written must read as before but for what was pointed; where it does not,
 * nothing of the file is.
 */
export function pointSafely({ text: original, spots }: DeploymentText, targets: readonly Target[]): Pointed {
  const pointed = point(original, spots, targets);
  const { text, changes, edits } = pointed;
  if (!spots.isDocument || changes.length === 0 || readsTheSame(original, text, edits)) {
    return pointed;
  }
  const why = 'written so, the file would read otherwise elsewhere too: write its reference in another form';
  const left = changes.map(({ component, lines: [line], from }) => ({ component, line, object: from, why }));
  return { ...pointed, text: original, changes: [], edits: [], left: [...pointed.left, ...left] };
}
