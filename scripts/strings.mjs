// Prints every text of the program that a person reads, with its place, so that they can be read as one text: npm run strings.
// `--sample N`: so many of them, taken at random. Expressions within a text stand as {name}.
import { readFile, readdir } from 'node:fs/promises';
import ts from 'typescript';

const root = new URL('..', import.meta.url).pathname;
/** At least two words, one of them longer than a sign: keys, paths and code have none. */
const isProse = (text) => /[a-z]{2,}[,:;.]? [a-z{"(`<]/i.test(text) && !/^[A-Z]+ |^SELECT|^INSERT|=>|^\s*\{/.test(text);

/** The text of a literal; undefined for anything else. */
function textOf(node) {
  if (ts.isStringLiteralLike(node)) {
    return node.text;
  }
  if (ts.isTemplateExpression(node)) {
    const spans = node.templateSpans.map(({ expression, literal }) => `{${nameOf(expression)}}${literal.text}`);
    return `${node.head.text}${spans.join('')}`;
  }
  return undefined;
}

/** A short name of an expression. */
function nameOf(expression) {
  const text = expression.getText().replace(/\s+/g, ' ');
  return text.length > 24 ? `${text.slice(0, 21)}…` : text;
}

const names = await readdir(`${root}src`, { recursive: true });
const files = names.filter((name) => /\.tsx?$/.test(name) && !name.startsWith('sandbox/')).sort();
const found = [];
for (const name of files) {
  const file = ts.createSourceFile(name, await readFile(`${root}src/${name}`, 'utf8'), ts.ScriptTarget.Latest, true);
  const visit = (node) => {
    const text = ts.isImportDeclaration(node) ? undefined : textOf(node);
    const isThrown = ts.isNewExpression(node.parent ?? node) && node.parent?.expression?.getText() === 'Error';
    if (text !== undefined && !isThrown && isProse(text)) {
      const { line } = file.getLineAndCharacterOfPosition(node.getStart());
      found.push({ place: `src/${name}:${line + 1}`, text });
    }
    ts.forEachChild(node, visit);
  };
  visit(file);
}
const at = process.argv.indexOf('--sample');
const count = at === -1 ? found.length : Number(process.argv[at + 1]);
const shown = at === -1 ? found : [...found].sort(() => Math.random() - 0.5).slice(0, count);
shown.forEach(({ place, text }) => process.stdout.write(`${place}\t${JSON.stringify(text).slice(1, -1)}\n`));
process.stderr.write(`${found.length} texts\n`);
