import { adoptionSuite } from '../support/adoption-suite';
import { realWorld } from '../support/real-world';

adoptionSuite('real servers', 'git', realWorld);
