// The part of undici that Hod uses. Its index loads fetch, web sockets, caches and mocks too, at every start.
const Dispatcher = require('../../node_modules/undici/lib/dispatcher/dispatcher.js');
Dispatcher.prototype.request = require('../../node_modules/undici/lib/api/api-request.js');
// Only to a proxy.
Dispatcher.prototype.connect = function connect(...args) {
  return require('../../node_modules/undici/lib/api/api-connect.js').apply(this, args);
};

exports.Agent = require('../../node_modules/undici/lib/dispatcher/agent.js');
Object.defineProperty(exports, 'EnvHttpProxyAgent', {
  get: () => require('../../node_modules/undici/lib/dispatcher/env-http-proxy-agent.js'),
});
