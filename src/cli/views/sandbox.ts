import { columns } from './format';
import type { Style } from './style';

/** What `sandbox` answers once its registries listen. */
export interface SandboxResult {
  registries: { name: string; registry: string; folder: string | null }[];
}

/** What `sandbox` answers to people. */
export function sandboxView({ registries }: SandboxResult, style: Style): string {
  const rows = registries.map(({ name, registry, folder }) => [name, registry, folder ?? 'in memory']);
  return [
    'The sandbox is running; end it with Ctrl-C.',
    ...columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : cell)),
  ].join('\n');
}
