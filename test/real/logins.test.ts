import { loginSuite, suiteLogin } from '../support/login-suite';
import { realWorld } from '../support/real-world';

loginSuite('real servers with htpasswd', () => realWorld({ login: suiteLogin }));
