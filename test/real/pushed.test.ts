import { pushedSuite } from '../support/pushed-suite';
import { realWorld } from '../support/real-world';

pushedSuite('real servers', realWorld);
