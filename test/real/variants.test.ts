import { realWorld } from '../support/real-world';
import { variantsSuite } from '../support/variants-suite';

variantsSuite('real servers', () => realWorld());
