import { loginSuite, suiteLogin } from '../support/login-suite';
import { sandboxWorld } from '../support/world';

loginSuite('the sandbox', () => sandboxWorld({ login: suiteLogin }));
