import { carrySuite } from '../support/carry-suite';
import { sandboxWorld } from '../support/world';

carrySuite('stand-in registries', sandboxWorld);
