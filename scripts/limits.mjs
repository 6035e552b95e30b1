// Writes the table of limits in docs/security.md from the constants that carry `@limit WHAT | UNIT | ERROR`; the sentence before the
// tag says why. `--check`: only says whether the table is up to date.
import { readFile, readdir, writeFile } from 'node:fs/promises';
import { format, resolveConfig } from 'prettier';
import ts from 'typescript';

const root = new URL('..', import.meta.url).pathname;
const page = `${root}docs/security.md`;
const [begin, end] = ['<!-- made by npm run limits -->', '<!-- end of the table -->'];

/** The number that an initializer stands for: numbers, `*` and `**` alone. */
function valueOf(node) {
  if (ts.isNumericLiteral(node)) {
    return Number(node.text.replaceAll('_', ''));
  }
  if (ts.isBinaryExpression(node)) {
    const [left, right] = [valueOf(node.left), valueOf(node.right)];
    switch (node.operatorToken.kind) {
      case ts.SyntaxKind.AsteriskToken:
        return left * right;
      case ts.SyntaxKind.AsteriskAsteriskToken:
        return left ** right;
    }
  }
  throw new Error(`a limit is a number, or a product of numbers: ${node.getText()}`);
}

const binary = ['bytes', 'KiB', 'MiB', 'GiB'];

/** A number with its unit, for people. */
function amount(value, unit) {
  if (unit === 'ms') {
    return value < 1000 ? `${value} ms` : `${value / 1000} s`;
  }
  if (unit !== 'bytes') {
    return `${value.toLocaleString('en')} ${unit}`;
  }
  const power = Math.min(binary.length - 1, Math.floor(Math.log2(value) / 10));
  return `${(value / 1024 ** power).toLocaleString('en')} ${binary[power]}`;
}

/** The limits of one file, in its order. */
function limitsIn(file, text) {
  const found = [];
  const visit = (node) => {
    for (const tag of ts.isVariableStatement(node) ? ts.getJSDocTags(node) : []) {
      if (tag.tagName.text === 'limit') {
        const [what, unit, error] = ts.getTextOfJSDocComment(tag.comment).split(' | ');
        const [declared] = node.declarationList.declarations;
        found.push({
          what,
          most: amount(valueOf(declared.initializer), unit),
          why: ts.getTextOfJSDocComment(tag.parent.comment).replaceAll('\n', ' '),
          error,
        });
      }
    }
    ts.forEachChild(node, visit);
  };
  visit(ts.createSourceFile(file, text, ts.ScriptTarget.Latest, true));
  return found;
}

const names = await readdir(`${root}src`, { recursive: true });
const files = names
  .filter((name) => name.endsWith('.ts'))
  .map((name) => `src/${name}`)
  .sort();
const limits = (
  await Promise.all(files.map(async (file) => limitsIn(file, await readFile(`${root}${file}`, 'utf8'))))
).flat();
const rows = limits.map(({ what, most, why, error }) => `| ${what} | ${most} | ${why} | ${error} |`);
const table = ['| what | at most | why | what happens beyond |', '| --- | --- | --- | --- |', ...rows].join('\n');
const written = await readFile(page, 'utf8');
const [from, to] = [written.indexOf(begin), written.indexOf(end)];
const made = await format(`${written.slice(0, from)}${begin}\n\n${table}\n\n${written.slice(to)}`, {
  ...(await resolveConfig(page)),
  parser: 'markdown',
});
if (!process.argv.includes('--check')) {
  await writeFile(page, made);
} else if (made !== written) {
  process.stderr.write('docs/security.md: the table of limits is not up to date; run `npm run limits`\n');
  process.exitCode = 1;
}
