import { platformTagsSuite } from '../support/platform-tags-suite';
import { realWorld } from '../support/real-world';

platformTagsSuite('real servers', false, () => realWorld());
