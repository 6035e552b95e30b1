import * as z from 'zod';
import { allErrorCodes } from '../core/errors';
import { sourceKinds } from '../core/build/output-place';
import type { SourceRights } from '../inspect/source-access';
import {
  mountRight,
  type LedgerRights,
  type RepositoryRights,
  type Right,
  type SigningRights,
} from '../inspect/access';

const right = z.strictObject({
  /** `unknown`: the registry could not be asked. */
  allowed: z.enum(['yes', 'no', 'unknown']),
  /** The code of the error that stands in the way. */
  code: z.enum(allErrorCodes).nullable(),
  why: z.string().nullable(),
  next: z.string().nullable(),
});

export const accessResultSchema = z.strictObject({
  product: z.string(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      /** What the job needs there; null: nothing. */
      needs: z.enum(['read', 'write']).nullable(),
      repositories: z.array(
        z.strictObject({
          component: z.string(),
          repository: z.string(),
          read: right,
          write: right,
          /** From the environment before; null where they do not share a registry. */
          mount: right.nullable(),
          /** Whether it can be read without a login; null where it cannot be read. */
          anyoneReads: z.boolean().nullable(),
          /** How a repository that does not exist comes to be: `first-upload` creates it, or it was `created` now. */
          creation: z.enum(['first-upload', 'created']).nullable(),
        }),
      ),
    }),
  ),
  /**
   * Whether the job may read where content comes from: included components, and build outputs that builders push. `repository`: null
   * where that is not known.
   */
  sources: z.array(
    z.strictObject({
      kind: z.enum(sourceKinds),
      component: z.string(),
      repository: z.string().nullable(),
      read: right,
    }),
  ),
  /** What the job may do with the ledger. Whether it takes a certain reference, a git remote says only when one comes. */
  ledger: z.strictObject({ ledger: z.string(), read: right, append: right }),
  /** Who this job is, by an issuer of `trust:`; null where none is named, or the job is not proven. */
  identity: z.strictObject({ name: z.string(), issuer: z.string() }).nullable(),
  /** Whether this run can sign what it records, and as whom; null where hod.yaml does not sign, or the job only reads. */
  signing: z.strictObject({ as: z.string().nullable(), sign: right }).nullable(),
  /** Where the login for each registry came from, and which other places have one; `used`: null where none was needed or found. */
  logins: z.array(z.strictObject({ registry: z.string(), used: z.string().nullable(), others: z.array(z.string()) })),
  /** Rights that go further than is needed. */
  warnings: z.array(z.string()),
});
export type AccessResult = z.infer<typeof accessResultSchema>;
export type RightResult = z.infer<typeof right>;

/** What was found out in one environment; `needs`: what the job needs there, undefined for nothing. */
export interface CheckedEnvironment {
  readonly environment: { readonly name: string; readonly after: string | undefined };
  readonly needs: 'read' | 'write' | undefined;
  readonly repositories: readonly RepositoryRights[];
}

/** Everything that was found out. */
export interface CheckedAccess {
  readonly product: string;
  readonly checked: readonly CheckedEnvironment[];
  readonly sources: readonly SourceRights[];
  readonly ledger: LedgerRights;
  readonly identity: { readonly name: string; readonly issuer: string } | undefined;
  readonly signing: SigningRights | undefined;
  readonly logins: readonly {
    readonly registry: string;
    readonly used: string | undefined;
    readonly others: readonly string[];
  }[];
}

/** What an identity may do, as a document. */
export function toAccessResult(found: CheckedAccess): AccessResult {
  const { product, checked, sources, ledger, identity, signing, logins } = found;
  const environments = checked.map(({ environment, needs, repositories }) => {
    const before = checked.find((each) => each.environment.name === environment.after)?.repositories;
    return {
      environment: environment.name,
      needs: needs ?? null,
      repositories: repositories.map((found, at) => {
        const mount = mountRight(found, before?.[at]);
        return {
          ...found,
          read: toRight(found.read),
          write: toRight(found.write),
          mount: mount === undefined ? null : toRight(mount),
          anyoneReads: found.anyoneReads ?? null,
          creation: found.creation ?? null,
        };
      }),
    };
  });
  const warnings = environments.flatMap(({ environment, needs, repositories }) => {
    const [first, ...others] = needs === 'write' ? [] : repositories.filter(({ write }) => write.allowed === 'yes');
    return first === undefined ? [] : [warningOf(environment, first.repository, others.length)];
  });
  const rows = sources.map(({ kind, component, repository, read: reads }) => {
    return { kind, component, repository: repository ?? null, read: toRight(reads) };
  });
  return {
    product,
    environments,
    sources: rows,
    ledger: { ledger: ledger.ledger, read: toRight(ledger.read), append: toRight(ledger.append) },
    identity: identity === undefined ? null : { name: identity.name, issuer: identity.issuer },
    signing: signing === undefined ? null : { as: signing.as ?? null, sign: toRight(signing.sign) },
    logins: logins.map(({ registry, used, others }) => ({ registry, used: used ?? null, others: [...others] })),
    warnings,
  };
}

function toRight({ allowed, code, why, next }: Right): RightResult {
  return { allowed, code: code ?? null, why: why ?? null, next: next ?? null };
}

function warningOf(environment: string, repository: string, others: number): string {
  const more = others === 0 ? '' : ` and ${others} more`;
  return `this identity can write to ${environment} (${repository}${more}), but does not need to`;
}

/** Whether hod.yaml names no content that could be included: nobody failed to answer. */
function isUnnamed(code: RightResult['code']): boolean {
  return code === 'included-missing' || code === 'included-elsewhere' || code === 'ledger-empty';
}

/** Whether content cannot be read. The repository that a builder pushes to may come with its first push. */
export function isLacking({ kind, read }: AccessResult['sources'][number]): boolean {
  return read.allowed !== 'yes' && !(kind === 'built' && read.code === 'no-repository');
}

/** The exit code for what was found: 0 where everything that is needed is allowed. */
export function accessExitCode({ environments, sources, ledger, signing }: AccessResult): number {
  // Every command reads it; who writes an environment adds to it.
  const adds = environments.some(({ needs }) => needs === 'write');
  const own = adds ? [ledger.append, ...(signing === null ? [] : [signing.sign])] : [];
  const rights = [ledger.read, ...own].filter(({ allowed }) => allowed !== 'yes');
  const missing = environments.flatMap(({ needs, repositories }) =>
    needs === null
      ? []
      : repositories.map((repository) => repository[needs]).filter(({ allowed }) => allowed !== 'yes'),
  );
  missing.push(...rights, ...sources.filter(isLacking).map(({ read }) => read));
  if (missing.some(({ allowed, code }) => allowed === 'no' && code !== 'no-repository')) {
    return 5;
  }
  if (missing.some(({ allowed, code }) => allowed === 'unknown' && !isUnnamed(code))) {
    return 6;
  }
  return missing.length > 0 ? 4 : 0;
}

export const storedLoginsResultSchema = z.strictObject({
  file: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  logins: z.array(z.strictObject({ registry: z.string(), username: z.string() })),
});
export type StoredLoginsResult = z.infer<typeof storedLoginsResultSchema>;

export function toStoredLoginsResult(
  file: string,
  logins: ReadonlyMap<string, { username: string }>,
  { dryRun = false }: { readonly dryRun?: boolean } = {},
): StoredLoginsResult {
  return { file, dryRun, logins: [...logins].map(([registry, { username }]) => ({ registry, username })) };
}
