import { variantsSuite } from '../support/variants-suite';
import { sandboxWorld } from '../support/world';

variantsSuite('stand-ins', () => sandboxWorld());
