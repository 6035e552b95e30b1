import { adoptionSuite } from '../support/adoption-suite';
import { sandboxWorld } from '../support/world';

adoptionSuite('stand-in registries', 'file', sandboxWorld);
