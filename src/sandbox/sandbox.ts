import { appendFileSync } from 'node:fs';
import { join } from 'node:path';
import { HodError, systemErrorCode } from '../core/errors';
import { seededFaults } from './registry/faults';
import type { RunningServer } from './http';
import { startIdentityProvider, subjectOf } from './identity/identity-provider';
import type { SandboxRegistryOptions } from './registry/options';
import { startReceiver, type Received } from './receiver';
import { startSandboxRegistry } from './registry/router';
import { startTokenService, type TokenService } from './identity/token-service';

/** What a sandbox holds. */
export interface SandboxOptions {
  /** A registry for each name, at `NAME.localhost:PORT`. */
  names: readonly string[];
  /** The port of the first, the next ones following; free ones where it is 0. */
  port: number;
  /** Keep content here, a folder for each registry; in memory where it is not given. */
  folder?: string | undefined;
  login?: SandboxRegistryOptions['login'];
  immutable?: RegExp | undefined;
  trusting?: boolean | undefined;
  withoutReferrers?: boolean | undefined;
  /** Let something go wrong with about one request in ten, the same for the same seed. */
  faults?: number | undefined;
  /** Guard the registries with access tokens, for the jobs of an identity provider. */
  identity?: boolean;
  /** Start a receiver of announcements. */
  receiver?: boolean | undefined;
  /** Told of what is announced to it. */
  received?: (received: Received) => void;
  /** Append every request to this file, one JSON document a line. */
  log?: string | undefined;
}

/** A sandbox that is running. */
export interface Sandbox {
  readonly registries: readonly { name: string; registry: string; folder: string | null }[];
  /** How a job proves itself; null where the registries are open, or ask for a login. */
  readonly identity: SandboxIdentity | null;
  /** Who takes announcements; null where nobody does. */
  readonly receiver: { url: string; key: string } | null;
  close(): Promise<void>;
}

/** An identity provider with one job, and the token service that trusts it. */
export interface SandboxIdentity {
  issuer: string;
  /** Where the job asks for its token, and its permission to. */
  tokenUrl: string;
  bearer: string;
  audience: string;
  /** Where the token is exchanged. */
  exchange: string;
}

const audience = 'hod-sandbox';
const project = 'skerry-line';

/** Starts stand-in registries on loopback. Throws `unavailable` where a port is taken. */
export async function startSandbox(options: SandboxOptions): Promise<Sandbox> {
  const running: RunningServer[] = [];
  const registries: Sandbox['registries'][number][] = [];
  const guard = options.identity === true ? await startIdentity(running) : undefined;
  const faults = options.faults === undefined ? undefined : seededFaults(options.faults);
  for (const [at, name] of options.names.entries()) {
    const folder = options.folder === undefined ? undefined : join(options.folder, name);
    const port = options.port === 0 ? 0 : options.port + at;
    const registry = await startSandboxRegistry({
      folder,
      port,
      login: options.login,
      immutable: options.immutable,
      trusting: options.trusting,
      withoutReferrers: options.withoutReferrers,
      tokens: guard?.tokens,
      faults,
      onRequest: (request) => {
        if (options.log !== undefined) {
          appendFileSync(options.log, `${JSON.stringify({ registry: name, ...request })}\n`);
        }
      },
    }).catch((error: unknown) => {
      throw portProblem(error, port);
    });
    running.push(registry);
    registries.push({ name, registry: `${name}.localhost:${registry.port}`, folder: folder ?? null });
  }
  const receiver =
    options.receiver === true ? await startReceiver(0, options.received ?? (() => undefined)) : undefined;
  if (receiver !== undefined) {
    running.push(receiver);
  }
  return {
    registries,
    identity: guard?.identity ?? null,
    receiver: receiver === undefined ? null : { url: `http://receiver.localhost:${receiver.port}/`, key: receiver.key },
    close: async () => {
      await Promise.all(running.map((each) => each.close()));
    },
  };
}

/** The main branch of the sample project may write; its other branches may read. */
async function startIdentity(running: RunningServer[]): Promise<{ identity: SandboxIdentity; tokens: TokenService }> {
  const provider = await startIdentityProvider(0);
  const rule = (branch: string, actions: ('pull' | 'push')[]) => ({
    issuer: provider.issuer,
    audience,
    subject: subjectOf({ project, branch }),
    rights: [{ repository: '*', actions }],
  });
  const rules = [rule('main', ['pull', 'push']), rule('*', ['pull'])];
  const tokens = await startTokenService({ port: 0, service: 'sandbox', rules });
  running.push(provider, tokens);
  const { url, bearer } = provider.admit({ project, branch: 'main', run: '1' });
  const identity = { issuer: provider.issuer, tokenUrl: url, bearer, audience, exchange: tokens.exchange };
  return { identity, tokens };
}

function portProblem(error: unknown, port: number): unknown {
  if (systemErrorCode(error) !== 'EADDRINUSE') {
    return error;
  }
  return new HodError(
    'port-taken',
    {
      what: 'a sandbox registry could not start',
      object: `port ${port}`,
      why: 'another program listens there',
      next: 'choose another port with --port, or any free ones with --port 0',
    },
    { cause: error },
  );
}
