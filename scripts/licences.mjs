// The licences of the packages that a bundle holds.
import { readdir, readFile } from 'node:fs/promises';
import { join } from 'node:path';

/** Their names, versions and texts, from what the bundler says that it took. */
export async function licencesOf(root, metafiles) {
  const inputs = metafiles.flatMap(({ inputs: files }) => Object.keys(files));
  const folders = new Set(inputs.flatMap((file) => /^(.*node_modules\/(?:@[^/]+\/)?[^/]+)\//.exec(file)?.[1] ?? []));
  const texts = await Promise.all(
    [...folders].sort().map(async (folder) => {
      const { name, version, license } = JSON.parse(await readFile(join(root, folder, 'package.json'), 'utf8'));
      const file = (await readdir(join(root, folder))).find((each) => /^(licen[cs]e|copying)/i.test(each));
      const text = file === undefined ? '' : await readFile(join(root, folder, file), 'utf8');
      return `${name} ${version} (${license})\n\n${text.trim()}\n`;
    }),
  );
  const line = '-'.repeat(80);
  return `Hod holds these packages.\n\n${texts.map((text) => `${line}\n${text}`).join('\n')}`;
}
