import { sandboxWorld } from '../support/world';
import { yearSuite } from '../support/year';

yearSuite('registries that remove tags', sandboxWorld);
