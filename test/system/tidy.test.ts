import { standInServers } from '../support/tidy-servers';
import { tidySuite } from '../support/tidy-suite';

tidySuite('stand-ins', ['both'], standInServers);
