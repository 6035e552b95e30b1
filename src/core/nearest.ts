import { distance } from 'fastest-levenshtein';

/** The known name that a misspelt one most likely means, if one is near enough. */
export function nearestName(name: string, known: readonly string[]): string | undefined {
  const limit = Math.max(2, Math.floor(name.length / 3));
  const ranked = known.map((each) => ({ each, far: distance(name, each) })).sort((a, b) => a.far - b.far);
  const [best] = ranked;
  return best !== undefined && best.far <= limit ? best.each : undefined;
}

/** What to say of the names that there are, to somebody who gave one that there is not. */
export function similarNames(name: string, known: readonly string[]): string {
  const nearest = nearestName(name, known);
  return nearest === undefined ? `there are: ${known.join(', ') || 'none'}` : `similar: ${nearest}`;
}

/** Similar names, to go on a sentence with; nothing where none is known. */
export function alsoSimilar(name: string, known: readonly string[]): string {
  return known.length === 0 ? '' : `; ${similarNames(name, known)}`;
}
