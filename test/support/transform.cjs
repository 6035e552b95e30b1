// Jest's way to TypeScript: the same compiler that builds the program.
const { transformSync } = require('esbuild');

exports.process = (source, file) => ({
  code: transformSync(source, {
    loader: file.endsWith('.ts') ? 'ts' : 'js',
    format: 'cjs',
    target: 'node20',
    sourcefile: file,
    sourcemap: 'inline',
  }).code,
});
