// Lints code that is planted at a path, by the laws of the house alone. Reads [{ path, code }] and answers the rules that each breaks.
import { Linter } from 'eslint';
import tseslint from 'typescript-eslint';
import laws, { kept } from '../../scripts/laws.mjs';

let text = '';
for await (const piece of process.stdin.setEncoding('utf8')) {
  text += piece;
}
const linter = new Linter({ cwd: process.cwd() });
const config = {
  files: ['**/*.ts'],
  languageOptions: { parser: tseslint.parser },
  plugins: { laws },
  rules: kept,
};
const answers = JSON.parse(text).map(({ path, code }) =>
  linter.verify(code, [config], { filename: `${process.cwd()}/${path}` }).map(({ ruleId }) => ruleId),
);
process.stdout.write(JSON.stringify(answers));
