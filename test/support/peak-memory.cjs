// Loaded into a process with NODE_OPTIONS: writes the peak memory of the whole process when it ends.
process.once('exit', () => {
  require('node:fs').writeFileSync(process.env.HOD_PEAK_FILE, String(process.resourceUsage().maxRSS * 1024));
});
