import { realWorld } from '../support/real-world';
import { yearSuite } from '../support/year';

yearSuite('servers that remove no tags', realWorld);
