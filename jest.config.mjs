/** Tests are TypeScript, transpiled as they are loaded; system and real tests run the built program. */
const base = {
  testEnvironment: 'node',
  transform: { '\\.[jt]s$': '<rootDir>/test/support/transform.cjs' },
  moduleNameMapper: { '^env-ci$': '<rootDir>/test/support/no-ci.cjs' },
  transformIgnorePatterns: [
    '/node_modules/(?!(p-limit|yocto-queue|jose|string-width|strip-ansi|ansi-regex|get-east-asian-width|temporal-polyfill|temporal-utils)/)',
  ],
};

export default {
  maxWorkers: 2,
  projects: ['unit', 'system', 'stories', 'hostile', 'real'].map((name) => ({
    ...base,
    displayName: name,
    roots: [`<rootDir>/test/${name}`],
    testMatch: ['**/*.test.ts'],
    setupFiles: ['unit', 'system', 'stories'].includes(name) ? ['<rootDir>/test/support/setup-fixed.ts'] : [],
    setupFilesAfterEnv: ['<rootDir>/test/support/setup.ts'],
  })),
};
