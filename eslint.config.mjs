import { defineConfig } from 'eslint/config';
import { readdirSync } from 'node:fs';
import tseslint from 'typescript-eslint';
import laws, { kept } from './scripts/laws.mjs';

const folders = readdirSync(new URL('src', import.meta.url));

/** What no file of a room imports from outside. */
const outsideRules = folders.map((folder) => {
  const patterns = [];
  if (folder === 'core') {
    // The core computes: no files, no network, no processes, no console.
    patterns.push({ regex: '^node:(?!crypto$)', message: 'core/ does not touch the outside world.' });
    patterns.push({
      regex: '^(undici|libsql|tar|commander|cli-table3)$',
      message: 'core/ does not touch the outside world.',
    });
  }
  if (!['system', 'sandbox'].includes(folder)) {
    patterns.push({
      regex: '^node:fs(/promises)?$',
      importNamePattern:
        '^(writeFile|appendFile|createWriteStream|write|writev|rename|copyFile|cp|truncate|link)(Sync)?$',
      message: 'A file is written whole or not at all: system/write-file.ts does it.',
    });
  }
  return {
    files: [`src/${folder}/**/*.ts`],
    // What the demonstration writes lies in a folder of its own; a temporary file without a name loses nothing.
    ignores: ['src/cli/demo.ts', 'src/archive/temporary.ts'],
    rules: {
      'no-restricted-imports': ['error', { patterns }],
      ...(folder === 'core' ? { 'no-console': 'error', 'no-restricted-globals': ['error', 'process'] } : {}),
    },
  };
});

/** The clock is outside; a date that somebody gives may be read. */
const noClock = [
  { selector: "NewExpression[callee.name='Date'][arguments.length=0]", message: 'core/ does not read the clock.' },
  { selector: "MemberExpression[object.name='Date'][property.name='now']", message: 'core/ does not read the clock.' },
  {
    selector:
      "Program > VariableDeclaration > VariableDeclarator > NewExpression[callee.name='Set'][arguments.length=0]",
    message: 'core/ has no global state.',
  },
  {
    selector:
      "Program > VariableDeclaration > VariableDeclarator > NewExpression[callee.name='Map'][arguments.length=0]",
    message: 'core/ has no global state.',
  },
];

/** `constructor` and `__proto__` are names like any other: what stands under names from outside is a map. */
const noRecord = {
  selector: "CallExpression[callee.object.name='z'][callee.property.name='record']",
  message: 'Names from outside are the keys of a Map: read them with mapOf (core/json.ts).',
};
const noRecordFiles = ['core', 'registry', 'archive', 'ledger', 'session', 'delivery', 'inspect', 'operations', 'cli'];

export default defineConfig(
  { ignores: ['dist/', 'node_modules/', 'coverage/', 'test-results/'] },
  { files: ['**/*.mjs'], extends: [tseslint.configs.recommended] },
  {
    files: ['**/*.ts'],
    extends: [tseslint.configs.strictTypeChecked],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      '@typescript-eslint/consistent-type-imports': 'error',
      '@typescript-eslint/no-confusing-void-expression': 'off',
      // Interfaces promise asynchrony that one engine may not need.
      '@typescript-eslint/require-await': 'off',
      '@typescript-eslint/only-throw-error': 'error',
      eqeqeq: 'error',
      'no-console': ['error'],
    },
  },
  {
    // Matchers such as expect.any() have no type of their own.
    files: ['test/**/*.ts'],
    rules: { '@typescript-eslint/no-unsafe-assignment': 'off' },
  },
  ...outsideRules,
  {
    files: ['src/**/*.ts'],
    plugins: { laws },
    rules: kept,
  },
  // A command is a table of its options.
  { files: ['src/cli/commands/**/*.ts'], rules: { 'max-lines-per-function': 'off' } },
  {
    // hod.yaml is checked as a record, whose schema editors read, and is a map from then on.
    files: noRecordFiles.map((folder) => `src/${folder}/**/*.ts`),
    rules: { 'no-restricted-syntax': ['error', noRecord] },
  },
  { files: ['src/core/**/*.ts'], rules: { 'no-restricted-syntax': ['error', noRecord, ...noClock] } },
  {
    // A rule answers, met or unmet; whoever asked it turns that into a refusal.
    files: ['src/core/release/gates/**/*.ts'],
    rules: {
      'no-restricted-syntax': [
        'error',
        noRecord,
        ...noClock,
        { selector: 'ThrowStatement', message: 'A rule does not throw.' },
      ],
    },
  },
);
