import { referrersSuite } from '../support/referrers-suite';
import { proveSuite } from '../support/prove-suite';
import { realWorld } from '../support/real-world';

// The server lists nothing that refers to a manifest: everything goes by tags.
describe('what belongs to a release', () => {
  referrersSuite(realWorld);
});

describe('what somebody did by hand', () => {
  proveSuite(realWorld);
});
