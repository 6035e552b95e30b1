import { timingSafeEqual } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { RegistryError } from './exchange';
import type { SandboxRegistryOptions } from './options';

/** A request that wants something of a repository, where it is of one. */
export interface AccessRequest {
  readonly request: IncomingMessage;
  readonly method: string;
  readonly name: string | undefined;
}

/** Throws unless the request bears what this registry asks for. Answers from which repositories it may mount. */
export async function authorize(
  { request, method, name }: AccessRequest,
  { login, tokens }: SandboxRegistryOptions,
): Promise<(name: string) => boolean> {
  const authorization = request.headers.authorization ?? '';
  if (tokens !== undefined) {
    return checkToken(tokens, authorization, method, name);
  }
  if (login !== undefined) {
    const expected = Buffer.from(`Basic ${Buffer.from(`${login.username}:${login.password}`).toString('base64')}`);
    const given = Buffer.from(authorization);
    if (given.length !== expected.length || !timingSafeEqual(given, expected)) {
      const headers = { 'www-authenticate': 'Basic realm="sandbox"' };
      throw new RegistryError(401, 'UNAUTHORIZED', 'a login is needed', headers);
    }
  }
  return () => true;
}

async function checkToken(
  { realm, service, verify }: NonNullable<SandboxRegistryOptions['tokens']>,
  authorization: string,
  method: string,
  name: string | undefined,
): Promise<(name: string) => boolean> {
  const actions = method === 'GET' || method === 'HEAD' ? ['pull'] : ['pull', 'push'];
  const access = await verify(authorization.replace(/^Bearer /, ''));
  const allows = (repository: string, action: string): boolean =>
    access?.some((each) => each.name === repository && each.actions.includes(action)) === true;
  if (access === undefined || (name !== undefined && !actions.every((action) => allows(name, action)))) {
    const scope = name === undefined ? '' : `,scope="repository:${name}:${actions.join(',')}"`;
    const error = access === undefined ? '' : ',error="insufficient_scope"';
    const challenge = `Bearer realm="${realm}",service="${service}"${scope}${error}`;
    throw new RegistryError(401, 'UNAUTHORIZED', 'a token is needed', { 'www-authenticate': challenge });
  }
  return (from) => allows(from, 'pull');
}
