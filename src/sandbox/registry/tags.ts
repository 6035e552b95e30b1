import { answerJson } from '../http';
import type { RegistryContents } from './contents';
import type { Exchange } from './exchange';

/** The tags of a repository, in pages. */
export function handleTagList(contents: RegistryContents, { response, name, query }: Exchange): void {
  const { page, headers } = pageOf([...contents.repository(name).tags.keys()], query, `/v2/${name}/tags/list`);
  answerJson(response, 200, { name, tags: page }, headers);
}

/** The names of the repositories, in pages. */
export function handleCatalogue(
  { catalogue }: RegistryContents,
  { response, query }: Pick<Exchange, 'response' | 'query'>,
): void {
  const { page, headers } = pageOf([...catalogue.repositories.keys()], query, '/v2/_catalog');
  answerJson(response, 200, { repositories: page }, headers);
}

function pageOf(names: string[], query: URLSearchParams, path: string) {
  const all = names.sort();
  const last = query.get('last');
  const after = last === null ? all : all.filter((name) => name > last);
  const count = query.has('n') ? Number(query.get('n')) : after.length;
  const page = after.slice(0, count);
  const more = page.length < after.length && page.length > 0;
  const next = `${path}?n=${count}&last=${encodeURIComponent(page.at(-1) ?? '')}`;
  return { page, headers: more ? { link: `<${next}>; rel="next"` } : {} };
}
