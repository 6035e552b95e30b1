// Jest's way to TypeScript: the same compiler that builds the program.
const { transformSync } = require('esbuild');

exports.process = (source, file) => ({
  code: transformSync(source, {
    loader: file.endsWith('.ts') ? 'ts' : 'js',
    format: 'cjs',
    target: 'node20',
    // What is loaded when it is needed is required then, which Jest can do without flags.
    supported: { 'dynamic-import': false },
    sourcefile: file,
    sourcemap: 'inline',
  }).code,
});
