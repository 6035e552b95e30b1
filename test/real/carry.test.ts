import { carrySuite } from '../support/carry-suite';
import { realWorld } from '../support/real-world';

carrySuite('real servers', realWorld);
