import { createHash } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { join } from 'node:path';
import { formatCount } from '../core/amounts';
import { HodError, messageOf } from '../core/errors';
import type { BoardData, BoardResult, BoardsData } from '../results/board';
import { writeFile } from '../system/write-file';

/** Writes the page to a file, whole or not at all. `assets`: where its script and its style are. Throws `file-unusable`. */
export async function writeBoard<T extends BoardData | BoardsData>(
  data: T,
  file: string,
  assets = __dirname,
): Promise<T & Pick<BoardResult, 'file' | 'bytes'>> {
  const [script, style] = await Promise.all(
    ['board.js', 'board.css'].map((asset) => readFile(join(assets, asset), 'utf8')),
  );
  const page = boardPage(data, script ?? '', style ?? '');
  try {
    await writeFile(file, page);
  } catch (error) {
    throw new HodError(
      'file-unusable',
      {
        what: 'the page could not be written',
        object: file,
        why: messageOf(error),
        next: 'mend that, or name another file with --out',
      },
      { cause: error },
    );
  }
  return { file, bytes: Buffer.byteLength(page), ...data };
}

/**
 * One file that loads nothing from anywhere: its policy allows the script and the style that are in it, by their hashes, and
 * nothing else. What comes from outside is data in it, in which nothing can end the element that holds it.
 */
function boardPage(data: BoardData | BoardsData, script: string, style: string): string {
  const policy = [
    "default-src 'none'",
    `script-src '${hashOf(script)}'`,
    `style-src '${hashOf(style)}'`,
    'img-src data:',
    "base-uri 'none'",
    "form-action 'none'",
  ].join('; ');
  const json = JSON.stringify(data).replace(/[<>&\u2028\u2029]/g, escaped);
  const name = 'products' in data ? formatCount(data.products.length, 'product') : data.product;
  const title = name.replace(/[<>&]/g, '');
  return [
    '<!doctype html>',
    '<html lang="en">',
    '<head>',
    '<meta charset="utf-8">',
    `<meta http-equiv="Content-Security-Policy" content="${policy}">`,
    '<meta name="viewport" content="width=device-width, initial-scale=1">',
    '<link rel="icon" href="data:,">',
    `<title>${title}: releases</title>`,
    `<style>${style}</style>`,
    '</head>',
    '<body>',
    '<noscript>This page is drawn by the script in it, which this browser does not run.</noscript>',
    `<script type="application/json" id="data">${json}</script>`,
    `<script>${script}</script>`,
    '</body>',
    '</html>',
    '',
  ].join('\n');
}

function hashOf(text: string): string {
  return `sha256-${createHash('sha256').update(text).digest('base64')}`;
}

/** A character as JSON may write it instead. */
function escaped(character: string): string {
  return `\\u${character.charCodeAt(0).toString(16).padStart(4, '0')}`;
}
