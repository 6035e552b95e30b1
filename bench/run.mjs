// Measures Hod beside public tools and the leanest possible program, in turn in one run, and prints a table of
// medians and ratios. Needs Debian's docker-registry, postgresql, openssl and curl. `--quick` runs with smaller
// sizes and fewer rounds; the name of a part (`--transfers`, `--memory`, `--distance`, …) runs that alone.
import { rmSync } from 'node:fs';
import { cpus } from 'node:os';
import { measureDistances } from './distances.mjs';
import { measureEvidence } from './evidence.mjs';
import { measureFollowing } from './following.mjs';
import { folder, jobs, rounds, rows } from './harness.mjs';
import { measureIdentifying } from './identifying.mjs';
import { measureGitLedger, measureLedgers } from './ledgers.mjs';
import { measureLooking } from './looking.mjs';
import { measureProducts } from './products.mjs';
import { measureResponding } from './responding.mjs';
import { measureStartup } from './startup.mjs';
import { measureTidying } from './tidying.mjs';
import { measureMemory, measureTransfers } from './transfers.mjs';

const parts = {
  '--transfers': measureTransfers,
  '--memory': measureMemory,
  '--distance': measureDistances,
  '--lean': measureResponding,
  '--evidence': measureEvidence,
  '--follow': measureFollowing,
  '--ledger': measureLedgers,
  '--git': measureGitLedger,
  '--look': measureLooking,
  '--identify': measureIdentifying,
  '--tidy': measureTidying,
  '--startup': measureStartup,
  '--products': measureProducts,
};
const chosen = Object.keys(parts).filter((part) => process.argv.includes(part));

try {
  for (const part of chosen.length === 0 ? Object.keys(parts) : chosen) {
    await parts[part]();
  }
  // As it stands in docs/performance.md.
  const table = [['work', 'yardstick', 'Hod', 'ratio', 'goal', 'reached'], Array(6).fill('---'), ...rows];
  console.log(table.map((row) => `| ${row.map((cell) => cell.replaceAll('|', '\\|')).join(' | ')} |`).join('\n'));
  console.log(
    `Medians of ${rounds} rounds, ${jobs} transfers at once. ${cpus().length} × ${cpus()[0]?.model ?? 'unknown'}, Node.js ${process.version}.`,
  );
} finally {
  rmSync(folder, { recursive: true, force: true });
}
