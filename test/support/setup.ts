import fc from 'fast-check';
import { closeWarm } from './warm-program';
import { seed } from './random';

// What a hang may cost, not how fast a test must be: machines differ.
jest.setTimeout(600_000);
fc.configureGlobal({ seed });

afterAll(closeWarm);
