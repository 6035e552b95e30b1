// What a hang may cost, not how fast a test must be: machines differ.
jest.setTimeout(600_000);
