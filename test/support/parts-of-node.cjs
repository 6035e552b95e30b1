// Loaded into a process with NODE_OPTIONS: writes the parts of Node.js that it has loaded when it ends, a line each.
const { writeFileSync } = require('node:fs');

process.once('exit', () => writeFileSync(process.env.HOD_PARTS_FILE, process.moduleLoadList.join('\n')));
