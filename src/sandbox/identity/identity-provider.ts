import { randomUUID } from 'node:crypto';
import { exportJWK, generateKeyPair, SignJWT } from 'jose';
import { answerJson, serve, type RunningServer } from '../http';

/** A CI job, as the identity provider knows it. */
export interface Job {
  project: string;
  branch: string;
  run: string;
}

/** A stand-in for the identity provider of a CI. */
export interface IdentityProvider extends RunningServer {
  readonly issuer: string;
  /** A token that says which job this is. `lifetime` is in seconds. */
  issue(job: Job, audience: string, lifetime?: number): Promise<string>;
  /** Lets a job ask for its token by itself: the URL, and the permission to use it. */
  admit(job: Job): { url: string; bearer: string };
}

/** The subject of a job's token. */
export function subjectOf({ project, branch }: Pick<Job, 'project' | 'branch'>): string {
  return `project:${project}:branch:${branch}`;
}

/** Starts an identity provider on loopback: discovery, keys, and tokens for jobs (OpenID Connect). */
export async function startIdentityProvider(port: number): Promise<IdentityProvider> {
  const { publicKey, privateKey } = await generateKeyPair('ES256');
  const kid = randomUUID();
  const key = { ...(await exportJWK(publicKey)), kid, alg: 'ES256', use: 'sig' };
  const admitted = new Map<string, Job>();

  const server = await serve(port, async (request, response) => {
    const url = new URL(request.url ?? '/', issuer);
    if (url.pathname === '/.well-known/openid-configuration') {
      return answerJson(response, 200, {
        issuer,
        jwks_uri: `${issuer}/keys`,
        id_token_signing_alg_values_supported: ['ES256'],
      });
    }
    if (url.pathname === '/keys') {
      return answerJson(response, 200, { keys: [key] });
    }
    const job = admitted.get((request.headers.authorization ?? '').replace(/^Bearer /, ''));
    if (url.pathname !== '/job-token' || job === undefined) {
      return answerJson(response, url.pathname === '/job-token' ? 403 : 404, { error: 'access_denied' });
    }
    return answerJson(response, 200, { token: await issue(job, url.searchParams.get('audience') ?? issuer) });
  });
  const issuer = `http://127.0.0.1:${server.port}`;
  const issue = (job: Job, audience: string, lifetime = 300): Promise<string> => {
    const now = Math.floor(Date.now() / 1000);
    return new SignJWT({ ...job })
      .setProtectedHeader({ alg: 'ES256', kid, typ: 'JWT' })
      .setIssuer(issuer)
      .setSubject(subjectOf(job))
      .setAudience(audience)
      .setIssuedAt(Math.min(now, now + lifetime - 60))
      .setExpirationTime(now + lifetime)
      .setJti(randomUUID())
      .sign(privateKey);
  };
  return {
    ...server,
    issuer,
    issue,
    admit(job) {
      const bearer = randomUUID();
      admitted.set(bearer, job);
      return { url: `${issuer}/job-token`, bearer };
    },
  };
}
