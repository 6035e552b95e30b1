// Tells how many connections were open at once to one address, at most, when the process ends.
const { writeFileSync } = require('node:fs');
const { Socket } = require('node:net');

const open = new Map();
let peak = 0;
const connect = Socket.prototype.connect;
Socket.prototype.connect = function (...args) {
  const [options] = Array.isArray(args[0]) ? args[0] : args;
  const port = options.port ?? options.path;
  if (port !== undefined) {
    const count = (open.get(port) ?? 0) + 1;
    open.set(port, count);
    peak = Math.max(peak, count);
    this.once('close', () => open.set(port, open.get(port) - 1));
  }
  return connect.apply(this, args);
};
process.once('exit', () => writeFileSync(process.env.HOD_CONNECTIONS_FILE, String(peak)));
