// Operations that tests run within their own process do not see the CI that runs the tests.
module.exports = { __esModule: true, default: () => ({ isCi: false }) };
