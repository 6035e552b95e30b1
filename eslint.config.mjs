import { defineConfig } from 'eslint/config';
import tseslint from 'typescript-eslint';

/**
 * Imports run one way: cli → operations → (registry, layout, ledger, workspace) → core. The sandbox
 * stands beside operations: it uses core alone, and only the command line starts it.
 */
const mayImport = {
  core: [],
  registry: ['core'],
  layout: ['core'],
  ledger: ['core'],
  workspace: ['core'],
  operations: ['core', 'registry', 'layout', 'ledger', 'workspace'],
  sandbox: ['core'],
  cli: ['core', 'operations', 'sandbox'],
};
const folders = Object.keys(mayImport);

const importRules = folders.map((folder) => {
  const forbidden = folders.filter((other) => other !== folder && !mayImport[folder].includes(other));
  const patterns = forbidden.map((other) => ({
    regex: `^(\\.\\./)+${other}(/|$)`,
    message: `${folder}/ does not import ${other}/: imports run cli → operations → registry, layout, ledger, workspace → core.`,
  }));
  if (folder === 'core') {
    // The core computes: no files, no network, no processes, no console.
    patterns.push({ regex: '^node:(?!crypto$)', message: 'core/ does not touch the outside world.' });
    patterns.push({
      regex: '^(undici|libsql|tar|commander|cli-table3)$',
      message: 'core/ does not touch the outside world.',
    });
  }
  return {
    files: [`src/${folder}/**/*.ts`],
    rules: {
      'no-restricted-imports': ['error', { patterns }],
      ...(folder === 'core' ? { 'no-console': 'error', 'no-restricted-globals': ['error', 'process', 'Date'] } : {}),
    },
  };
});

export default defineConfig(
  { ignores: ['dist/', 'node_modules/', 'coverage/'] },
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
  ...importRules,
);
