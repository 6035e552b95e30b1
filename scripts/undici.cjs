// The part of undici that Hod uses. Its index loads fetch, web sockets, caches and mocks too, at every start.
const Dispatcher = require('../node_modules/undici/lib/dispatcher/dispatcher.js');
Object.assign(Dispatcher.prototype, require('../node_modules/undici/lib/api/index.js'));

exports.Agent = require('../node_modules/undici/lib/dispatcher/agent.js');
exports.EnvHttpProxyAgent = require('../node_modules/undici/lib/dispatcher/env-http-proxy-agent.js');
