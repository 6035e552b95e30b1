import { MentionReader, type CountedMention } from '../core/identify/mentions';
import { readGivenText } from '../workspace/given-text';

/** So many different mentions of texts are looked up. */
const mostMentions = 20_000;

/** What texts mention, and whether there was more than is looked up. */
export interface GivenMentions {
  readonly mentions: readonly CountedMention[];
  readonly overflowed: boolean;
}

/** Finds the references and digests in texts: files, or `-` for standard input. Throws `file-unusable`. */
export async function readMentions(paths: readonly string[]): Promise<GivenMentions> {
  const reader = new MentionReader(mostMentions);
  for (const path of paths) {
    await readGivenText(path, (piece) => {
      reader.read(piece);
    });
    reader.end();
  }
  return { mentions: reader.mentions, overflowed: reader.overflowed };
}
