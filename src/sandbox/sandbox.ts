import { appendFileSync } from 'node:fs';
import { join } from 'node:path';
import { HodError, systemErrorCode } from '../core/errors';
import { startSandboxRegistry, type SandboxRegistry, type SandboxRegistryOptions } from './registry';

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
  /** Append every request to this file, one JSON document a line. */
  log?: string | undefined;
}

/** A sandbox that is running. */
export interface Sandbox {
  readonly registries: readonly { name: string; registry: string; folder: string | null }[];
  close(): Promise<void>;
}

/** Starts stand-in registries on loopback. Throws `unavailable` where a port is taken. */
export async function startSandbox(options: SandboxOptions): Promise<Sandbox> {
  const running: SandboxRegistry[] = [];
  const registries: Sandbox['registries'][number][] = [];
  for (const [at, name] of options.names.entries()) {
    const folder = options.folder === undefined ? undefined : join(options.folder, name);
    const port = options.port === 0 ? 0 : options.port + at;
    const registry = await startSandboxRegistry({
      folder,
      port,
      login: options.login,
      immutable: options.immutable,
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
  return {
    registries,
    close: async () => {
      await Promise.all(running.map((each) => each.close()));
    },
  };
}

function portProblem(error: unknown, port: number): unknown {
  if (systemErrorCode(error) !== 'EADDRINUSE') {
    return error;
  }
  return new HodError(
    'unavailable',
    {
      what: 'a sandbox registry could not start',
      object: `port ${port}`,
      why: 'another program listens there',
      next: 'choose another port with --port, or any free ones with --port 0',
    },
    { cause: error },
  );
}
