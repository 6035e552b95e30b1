import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { asOneLine } from '../core/text';
import type { CredentialOrigin, CredentialSource } from '../registry/login/credential';
import { identityMissing, jobLogin, type JobToken } from '../registry/login/job-identity';
import type { Config } from '../workspace/config';
import type { RegistryConfig, SecretPlace } from '../workspace/config-schema';
import { readPlace, readSecret, runCredentialCommand, type SecretContext } from '../workspace/secrets';
import { sharedLogins } from '../workspace/shared-logins';
import { readStored } from '../workspace/stored-logins';

type CredentialsConfig = Exclude<NonNullable<RegistryConfig['credentials']>, 'none'>;
type JobConfig = Extract<CredentialsConfig, { job: unknown }>['job'];

/** What logins are worked out with. */
interface LoginsContext {
  readonly secrets: Secrets;
  /** Told of the identity of this job, once a token service has accepted it. */
  readonly accepted: (subject: string) => void;
}

/** A place that the login for a registry can come from. */
interface LoginSource {
  /** Where that is, for people. */
  readonly name: string;
  readonly obtain: CredentialSource;
}

/**
 * The logins that there are for one registry: what hod.yaml says; where it says nothing a stored login, or one that other tools on
 * this machine share. Nothing is read before the registry asks for a login.
 */
export class RegistryLogins {
  private source: LoginSource | undefined;
  private readonly configured: RegistryConfig['credentials'];
  private readonly context: SecretContext;

  constructor(
    private readonly registry: string,
    private readonly config: Config | undefined,
    private readonly options: LoginsContext,
  ) {
    this.configured = config?.registries.get(registry)?.credentials;
    this.context = { folder: config?.folder ?? process.cwd(), secrets: options.secrets };
  }

  /** Obtains the login of the first place that has one. Throws where that place has it, and cannot give it. */
  readonly obtain: CredentialSource = async (wires) => {
    for await (const source of this.asked()) {
      const obtained = await source.obtain(wires);
      if (obtained !== undefined) {
        this.source = source;
        return obtained;
      }
    }
    return undefined;
  };

  /** Where the login came from; undefined where the registry asked for none, or none was found. */
  get used(): string | undefined {
    return this.source?.name;
  }

  /** The other places that have a login for the registry. */
  async others(): Promise<string[]> {
    const own = this.ownSource();
    const stored = await this.storedSource().catch((error: unknown) => [unreadable(error)]);
    const names = [...(own === undefined ? [] : [own]), ...stored].map(({ name }) => name);
    for await (const { name } of sharedLogins(this.registry, this.options.secrets)) {
      names.push(name);
    }
    return names.filter((name) => name !== this.used);
  }

  /** The places that are asked, one after the other. */
  private async *asked(): AsyncGenerator<LoginSource> {
    const own = this.ownSource();
    if (own !== undefined) {
      yield own;
    } else if (this.configured !== 'none') {
      yield* await this.storedSource();
      yield* this.config?.sharedLogins === false ? [] : sharedLogins(this.registry, this.options.secrets);
    }
  }

  private ownSource(): LoginSource | undefined {
    const { configured, registry, context, options } = this;
    return configured === undefined || configured === 'none'
      ? undefined
      : configuredSource(configured, registry, context, options.accepted);
  }

  private async storedSource(): Promise<LoginSource[]> {
    const stored = (await readStored(this.options.secrets)).get(this.registry);
    return stored === undefined
      ? []
      : [
          {
            name: `the stored login of ${stored.username}`,
            obtain: () =>
              Promise.resolve({
                credential: passwordOf(stored),
                expires: undefined,
                origin: storedOrigin(this.registry, stored),
              }),
          },
        ];
  }
}

/** A file that is there, and cannot be used: it is named all the same. */
function unreadable(error: unknown): Pick<LoginSource, 'name'> {
  if (!(error instanceof HodError)) {
    throw error;
  }
  return { name: `${asOneLine(error.problem.object ?? '')}, which cannot be used` };
}

/** The login that hod.yaml names for a registry. */
function configuredSource(
  credentials: CredentialsConfig,
  registry: string,
  context: SecretContext,
  accepted: LoginsContext['accepted'],
): LoginSource {
  if ('command' in credentials) {
    const [program = ''] = credentials.command;
    const origin = {
      name: 'the login that the command gave',
      next: `check what ${program} prints; \`hod access check\` tries it`,
    };
    return {
      name: `hod.yaml: the command ${program}`,
      obtain: async () => ({ ...(await runCredentialCommand(credentials, registry, context)), origin }),
    };
  }
  if ('job' in credentials) {
    const { exchange, audience } = credentials.job;
    const { secrets } = context;
    return {
      name: 'hod.yaml: the identity of this job',
      obtain: jobLogin(
        jobToken(credentials.job, registry, context),
        { registry, exchange, audience },
        { secrets, accepted },
      ),
    };
  }
  const { username: name, password: place } = credentials;
  return {
    name: `hod.yaml: a user name and password${typeof name === 'string' ? ` (${name})` : ''}`,
    obtain: async () => {
      const username = typeof name === 'string' ? name : await readPlace(name, registry, context);
      const password = context.secrets.keep(await readSecret(place, registry, context), registry, username);
      const origin = {
        name: `the login of ${username}`,
        next: 'check the user name and password that hod.yaml names; `hod access check` tries them',
      };
      return { credential: passwordOf({ username, password }), expires: undefined, origin };
    },
  };
}

function storedOrigin(registry: string, { username }: { username: string }): CredentialOrigin {
  return {
    name: `the stored login of ${username}`,
    next: `store it anew: hod access store ${registry} --user ${username} < FILE`,
  };
}

function passwordOf(login: { username: string; password: string }) {
  return { kind: 'password', ...login } as const;
}

function jobToken({ token }: JobConfig, registry: string, context: SecretContext): JobToken {
  const read = (place: SecretPlace): Promise<string> =>
    readSecret(place, registry, context).catch((error: unknown) => {
      // A CI that gives a job nothing to prove itself with has not been told to.
      throw error instanceof HodError ? identityMissing(registry, asOneLine(error.problem.why ?? '')) : error;
    });
  if (!('request' in token)) {
    return { kind: 'given', read: () => read(token) };
  }
  const { url, bearer } = token.request;
  return { kind: 'asked', read: async () => ({ url: await read({ env: url }), bearer: await read({ env: bearer }) }) };
}
