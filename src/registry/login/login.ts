import { atMost } from '../../core/bytes';
import * as z from 'zod';
import type { Credential } from '../../core/access/credential';
import { resolveAddress, whyExposed } from '../../core/access/destinations';
import { coversScopes, formatScopes, parseChallenges, type Scope } from '../../core/access/challenge';
import type { Secrets } from '../../core/access/secrets';
import { HodError } from '../../core/errors';
import { parseJson } from '../../core/json';
import type { About, RegistryResponse } from '../../http/exchange';
import { withRetries } from '../../http/retry';
import { mayPass, nameCredentials, passingProblem, registrySays, withSaid } from '../../http/status-problems';
import type { Wires } from '../../http/wires';
import {
  basicHeader,
  isSendable,
  type CredentialOrigin,
  type CredentialSource,
  type ObtainedCredential,
} from './credential';
import { otherTokenService, trustTokenService, type KnownTokenService } from './token-services';

/** A way to ask for access tokens, as a registry names it. */
interface TokenService {
  realm: URL;
  service: string | undefined;
}

interface ObtainedToken {
  scopes: readonly Scope[];
  /** The value of `Authorization`, and when to ask for the next one (milliseconds since 1970). */
  token: Promise<{ header: string; renewAt: number }>;
}

/** The value of `Authorization` for a request. */
export interface Authorization {
  header: string | undefined;
  /** Whether it was made for this very request. If it is refused, another one would be too. */
  fresh: boolean;
}

const tokenAnswer = z.object({
  token: z.string().optional(),
  access_token: z.string().optional(),
  expires_in: z.number().positive().optional(),
});
/**
 * A token is a few kilobytes.
 * @limit an answer of a token service | bytes | exit 6
 */
const answerLimit = 256 * 1024;
/** How long a token is good that does not say so, in seconds (the token specification of registries). */
const impliedLifetime = 60;

/**
 * The login of one registry: basic access (RFC 7617), or access tokens (RFC 6750) from the token
 * service that the registry names, each with the least scope that will do. However many requests
 * wait for a token, it is asked for once, and again before it runs out.
 */
export class Login {
  private basic = false;
  private service: TokenService | undefined;
  private readonly tokens: ObtainedToken[] = [];
  private obtained: ObtainedCredential | undefined;
  private asked: Promise<Credential | undefined> | undefined;
  private readonly registry: string;

  /**
   * @param origin The registry.
   * @param access Where its credential comes from, and what is known of its token service.
   * @param wires Reach token services, which the registry's own certificates are not meant for.
   */
  constructor(
    private readonly origin: URL,
    private readonly access: { credentials: CredentialSource; tokenService: KnownTokenService },
    private readonly wires: Wires,
    private readonly secrets: Secrets,
  ) {
    this.registry = origin.host;
  }

  /** Where the credential that was used came from; undefined where none was. */
  get used(): CredentialOrigin | undefined {
    return this.obtained?.origin;
  }

  /** Takes the credential from its source before anything asks for it. Throws where the source does. */
  async prepare(): Promise<void> {
    await this.credential();
  }

  /** What to send with a request that needs these scopes; nothing as long as no login was asked for. */
  async authorize(scopes: readonly Scope[], about: About): Promise<Authorization> {
    if (this.service !== undefined) {
      return this.tokenFor(this.service, scopes, about);
    }
    if (this.basic) {
      const credential = await this.credential();
      return { header: credential && basicHeader(credential), fresh: true };
    }
    return { header: undefined, fresh: false };
  }

  /**
   * Takes note of a challenge. Answers false where there is nothing to answer it with.
   * Throws `denied` where it would send a credential to a place that is not safe.
   */
  async accept(header: string): Promise<boolean> {
    const challenges = parseChallenges(header);
    const bearer = challenges.find(({ scheme }) => scheme === 'bearer');
    const realm = resolveAddress(bearer?.parameters.get('realm') ?? '', this.origin);
    if (bearer?.parameters.has('realm') === true && realm !== undefined) {
      await this.useService({ realm, service: bearer.parameters.get('service') });
      return true;
    }
    if (challenges.some(({ scheme }) => scheme === 'basic') && (await this.credential()) !== undefined) {
      this.basic = true;
      return true;
    }
    return false;
  }

  /** Drops the tokens for these scopes: the registry no longer takes them. */
  forget(scopes: readonly Scope[]): void {
    for (const obtained of this.tokens.filter((each) => coversScopes(each.scopes, scopes))) {
      this.tokens.splice(this.tokens.indexOf(obtained), 1);
    }
  }

  /** The first challenge of a run decides where logins go. */
  private async useService(named: TokenService): Promise<void> {
    const { service } = this;
    if (service === undefined) {
      await trustTokenService(named.realm, this.origin, this.access.tokenService);
      this.service ??= named;
    } else if (service.realm.host !== named.realm.host) {
      throw otherTokenService(named.realm, this.origin, service.realm.host);
    }
  }

  private async credential(): Promise<Credential | undefined> {
    const good = this.obtained?.expires === undefined || this.obtained.expires.getTime() > Date.now() + 10_000;
    if (this.obtained !== undefined && good) {
      return this.obtained.credential;
    }
    this.asked ??= this.access
      .credentials(this.wires)
      .then((found) => {
        if (found !== undefined) {
          this.refuseExposed();
        }
        this.obtained = found;
        return found?.credential;
      })
      .finally(() => (this.asked = undefined));
    return this.asked;
  }

  private refuseExposed(): void {
    const why = whyExposed(this.origin);
    if (why !== undefined) {
      throw new HodError('login-exposed', {
        what: 'a login is not sent over plain HTTP',
        object: this.registry,
        why,
        next: 'have the registry speak TLS, and remove `tls: false` under its name in hod.yaml',
      });
    }
  }

  private async tokenFor(service: TokenService, scopes: readonly Scope[], about: About): Promise<Authorization> {
    const known = this.tokens.find((each) => coversScopes(each.scopes, scopes));
    if (known !== undefined) {
      const { header, renewAt } = await known.token;
      if (Date.now() < renewAt) {
        return { header, fresh: false };
      }
      this.forget(scopes);
      return this.tokenFor(service, scopes, about);
    }
    const obtained: ObtainedToken = { scopes, token: this.requestToken(service, scopes, about) };
    this.tokens.push(obtained);
    try {
      return { header: (await obtained.token).header, fresh: true };
    } catch (error) {
      this.forget(scopes);
      throw error;
    }
  }

  private async requestToken(service: TokenService, scopes: readonly Scope[], about: About) {
    const credential = await this.credential();
    const wire = this.wires.to(service.realm);
    return withRetries(async () => {
      const asked = Date.now();
      let response = await this.sendTokenRequest(service, scopes, credential, about, 'GET');
      if ([404, 405].includes(response.statusCode)) {
        await response.body.dump();
        response = await this.sendTokenRequest(service, scopes, credential, about, 'POST');
      }
      if (response.statusCode !== 200) {
        throw await this.tokenProblem(response, service, about);
      }
      const body = await wire.naming(atMost(answerLimit, response.body), about, service.realm.host);
      const answer = tokenAnswer.safeParse((body && parseJson(body)) ?? null).data;
      const token = answer?.access_token ?? answer?.token;
      if (token === undefined || !isSendable(token)) {
        throw new HodError('token-missing', {
          what: about.purpose,
          object: about.object,
          why: `the token service ${service.realm.host} did not answer with a token that can be sent`,
          next: 'look into its log',
        });
      }
      const lifetime = (answer?.expires_in ?? impliedLifetime) * 1000;
      return { header: `Bearer ${this.secrets.keep(token, this.registry)}`, renewAt: asked + lifetime * 0.8 };
    }, wire.retries);
  }

  /** GET with basic access (or none), or the OAuth 2 POST (RFC 6749 §4.3, §6) that a token is exchanged with. */
  private async sendTokenRequest(
    { realm, service }: TokenService,
    scopes: readonly Scope[],
    credential: Credential | undefined,
    about: About,
    method: 'GET' | 'POST',
  ) {
    const form = new URLSearchParams(service === undefined ? {} : { service });
    if (method === 'GET' && credential?.kind !== 'token') {
      formatScopes(scopes).forEach((scope) => form.append('scope', scope));
      const url = new URL(realm);
      form.forEach((value, name) => url.searchParams.append(name, value));
      const headers = credential === undefined ? {} : { authorization: basicHeader(credential) };
      return this.wires.to(url).send({ url, method: 'GET', headers }, about);
    }
    form.set('client_id', 'hod');
    form.set('scope', formatScopes(scopes).join(' '));
    if (credential?.kind === 'token') {
      form.set('grant_type', 'refresh_token');
      form.set('refresh_token', credential.token);
    } else if (credential !== undefined) {
      form.set('grant_type', 'password');
      form.set('username', credential.username);
      form.set('password', credential.password);
    }
    const headers = { 'content-type': 'application/x-www-form-urlencoded' };
    return this.wires.to(realm).send({ url: realm, method: 'POST', headers, body: form.toString() }, about);
  }

  private async tokenProblem(response: RegistryResponse, { realm }: TokenService, about: About): Promise<HodError> {
    const { words: said } = await registrySays(response, this.secrets);
    if (mayPass(response.statusCode)) {
      return passingProblem(response, about, `the token service ${realm.host}`, said);
    }
    const { used } = this;
    const [why, next] =
      used === undefined
        ? [`${this.registry} asks for a login`, nameCredentials(this.registry)]
        : [`the token service ${realm.host} refused ${used.name} for ${this.registry}`, used.next];
    return new HodError(used === undefined ? 'login-needed' : 'login-refused', {
      what: about.purpose,
      object: about.object,
      why: withSaid(why, said),
      next,
    });
  }
}
