import { pushedSuite } from '../support/pushed-suite';
import { sandboxWorld } from '../support/world';

pushedSuite('registries that list referrers', sandboxWorld);
