// Loaded into a process with NODE_OPTIONS: writes the peak memory of the whole process when it ends.
const { existsSync, readFileSync, writeFileSync } = require('node:fs');

// What the system counts for a child begins with the memory of its parent; the status of the process does not.
const status = '/proc/self/status';
process.once('exit', () => {
  const told = existsSync(status) ? /^VmHWM:\s*(\d+)/m.exec(readFileSync(status, 'utf8'))?.[1] : undefined;
  writeFileSync(process.env.HOD_PEAK_FILE, String(Number(told ?? process.resourceUsage().maxRSS) * 1024));
});
