import { answerJson } from '../http';
import type { RegistryContents } from './contents';
import type { Exchange } from './exchange';

/** The tags of a repository, in pages. */
export function handleTagList(contents: RegistryContents, { response, name, query }: Exchange): void {
  const all = [...contents.entry(name).tags.keys()].sort();
  const last = query.get('last');
  const after = last === null ? all : all.filter((tag) => tag > last);
  const count = query.has('n') ? Number(query.get('n')) : after.length;
  const page = after.slice(0, count);
  const more = page.length < after.length && page.length > 0;
  const next = `/v2/${name}/tags/list?n=${count}&last=${encodeURIComponent(page.at(-1) ?? '')}`;
  answerJson(response, 200, { name, tags: page }, more ? { link: `<${next}>; rel="next"` } : {});
}
