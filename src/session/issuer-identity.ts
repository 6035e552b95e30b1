import * as z from 'zod';
import { atMost } from '../core/bytes';
import { resolveAddress, whyExposed } from '../core/access/destinations';
import { HodError, messageOf } from '../core/errors';
import { parseJson } from '../core/json';
import { timestampOf } from '../core/time';
import type { TrustedIssuer } from '../core/trust/trust-rules';
import type { Patience } from '../http/wire';
import { Wires } from '../http/wires';
import { requestJobToken } from '../registry/login/job-identity';
import type { Config } from '../workspace/config';
import { isThere, readSecret } from '../workspace/secrets';
import type { Session } from './session';

/** Who a job is, by an issuer that hod.yaml trusts. */
export interface IssuedIdentity {
  readonly name: string;
  /** The name of the issuer under `trust:`. */
  readonly issuer: string;
}

/** A command does not wait long for an issuer: without it, the job goes on under a name that is not proven. */
const patience: Patience = { connect: 3_000, idle: 5_000, whole: 8_000, retry: 0 };
/**
 * A set of keys is a few kilobytes.
 * @limit an answer of an issuer of job identities | bytes | the actor is not proven
 */
const answerLimit = 256 * 1024;
/** What an issuer says of itself (OpenID Connect Discovery 1.0 §3). */
const discoverySchema = z.object({ issuer: z.string(), jwks_uri: z.string() });

/**
 * Finds out who this job is: by the token that its CI gives it, checked with the keys that the issuer publishes. Undefined where the
 * job has no token. A token that does not count is noted, and proves nothing.
 */
export async function identityByIssuer(
  { trust, folder }: Pick<Config, 'trust' | 'folder'>,
  { secrets, observer }: Pick<Session, 'secrets' | 'observer'>,
): Promise<IssuedIdentity | undefined> {
  for (const issuer of (trust?.issuers ?? []).filter(({ token }) => isGiven(token, folder))) {
    const wires = new Wires(patience, observer, 2);
    try {
      const found = await verified(issuer, wires, { folder, secrets });
      if (found.subject !== undefined) {
        return { name: found.subject, issuer: issuer.name };
      }
      observer.note(unproven(issuer, found.problem));
    } catch (error) {
      if (!(error instanceof HodError)) {
        throw error;
      }
      observer.note(unproven(issuer, messageOf(error)));
    } finally {
      await wires.close();
    }
  }
  return undefined;
}

type ConfiguredIssuer = NonNullable<Config['trust']>['issuers'][number];

function unproven({ name }: Pick<ConfiguredIssuer, 'name'>, why: string): string {
  return `the identity of this job is not proven (trust.issuers.${name}): ${why}`;
}

function isGiven(token: ConfiguredIssuer['token'], folder: string): boolean {
  return isThere('request' in token ? { env: token.request.bearer } : token, folder);
}

async function verified(
  issuer: ConfiguredIssuer,
  wires: Wires,
  context: Parameters<typeof readSecret>[2],
): ReturnType<typeof verifyWith> {
  const place = `trust.issuers.${issuer.name}`;
  const read = (from: Parameters<typeof readSecret>[0]): Promise<string> => readSecret(from, place, context);
  const { token } = issuer;
  const given =
    'request' in token
      ? await requestJobToken(
          wires,
          { url: await read({ env: token.request.url }), bearer: await read({ env: token.request.bearer }) },
          { registry: place, service: issuer.url, audience: issuer.audience },
          context.secrets,
        )
      : await read(token);
  return verifyWith(given, issuer, wires);
}

async function verifyWith(token: string, issuer: TrustedIssuer, wires: Wires) {
  const { keySetSchema, verifyJobToken } = await import('../core/trust/job-identity');
  const place = `trust.issuers.${issuer.name}`;
  const address = `${issuer.url.replace(/\/+$/, '')}/.well-known/openid-configuration`;
  wires.name(new URL(issuer.url).host);
  const said = await ask(address, discoverySchema, place, wires);
  if (said.issuer !== issuer.url) {
    throw unusable(place, `${address} is of the issuer ${said.issuer}, not of ${issuer.url}`);
  }
  const keys = await ask(said.jwks_uri, keySetSchema, place, wires);
  return verifyJobToken(token, keys, issuer, timestampOf(new Date()));
}

/** Asks an issuer for a document. Keys that somebody on the way could change prove nothing. */
async function ask<T>(address: string, schema: z.ZodType<T>, place: string, wires: Wires): Promise<T> {
  const url = URL.canParse(address) ? resolveAddress(address, new URL(address)) : undefined;
  const exposed = url === undefined ? 'it is no HTTP address' : whyExposed(url);
  if (url === undefined || exposed !== undefined) {
    throw unusable(place, `${address}: ${exposed ?? ''}`);
  }
  const about = { purpose: 'could not ask for the keys of the issuer', object: place };
  const wire = wires.to(url);
  const response = await wire.send({ url, method: 'GET', headers: { accept: 'application/json' } }, about);
  const body = await wire.naming(atMost(answerLimit, response.body), about, url.host);
  const document = schema.safeParse(body && parseJson(body)).data;
  if (response.statusCode !== 200 || document === undefined) {
    throw unusable(place, `${address} answered ${response.statusCode}, and not with what it should`);
  }
  return document;
}

function unusable(object: string, why: string): HodError {
  return new HodError('trust-unusable', {
    what: 'the keys of the issuer cannot be read',
    object,
    why,
    next: 'check `url:` of the issuer in hod.yaml',
  });
}
