import { asOneLine, type Text } from './text';

/**
 * The one form of every error a user can meet: what happened, to which object, why, and what to do
 * next. Each has a stable code for programs; the code tells the fault, and the fault the exit code.
 */

/** The kinds of failure; each has one exit code. */
export const faults = [
  'defect',
  'usage',
  'refused',
  'missing',
  'denied',
  'unavailable',
  'corrupt',
  'interrupted',
] as const;
export type Fault = (typeof faults)[number];

/** The exit code of each fault. Part of the stable interface: see docs/exit-codes.md. */
export const exitCodes: Readonly<Record<Fault, number>> = {
  defect: 1,
  usage: 2,
  refused: 3,
  missing: 4,
  denied: 5,
  unavailable: 6,
  corrupt: 7,
  interrupted: 130,
};

/** The code of every error, by its fault. Part of the stable interface: see docs/errors.md. */
export const errorCodes = {
  defect: ['defect'],
  usage: [
    'command-line',
    'field-unknown',
    'options-conflict',
    'not-built-here',
    'config-missing',
    'config-exists',
    'config-invalid',
    'file-unusable',
    'folder-in-use',
    'not-files',
    'environment-unknown',
    'component-unknown',
    'first-environment',
    'not-a-platform',
    'not-a-time',
    'not-a-version',
    'not-a-line',
    'not-a-repository',
    'not-a-reference',
    'not-a-commit',
    'commit-unknown',
    'tag-empty',
    'nothing-to-follow',
    'not-a-plain-file',
    'password-missing',
    'not-a-ledger',
    'ledger-url-invalid',
    'reason-missing',
    'trust-unusable',
    'signing-failed',
    'report-unusable',
    'nothing-named',
    'ledgers-apart',
  ],
  refused: [
    'ledger-unsigned',
    'fixed-tag-taken',
    'nothing-to-tag',
    'other-way-in',
    'older-rules',
    'rules-changed',
    'place-taken',
    'serves-unclear',
    'not-admitted',
    'own-sign-off',
    'sign-off-uncounted',
    'other-build',
    'version-taken',
    'dirty-working-copy',
    'published-together',
    'held-by-order',
    'others-refused',
    'products-disagree',
    'line-empty',
    'not-after-last-version',
    'order-unknown',
    'not-in-previous-environment',
    'included-elsewhere',
    'environment-empty',
    'components-not-there',
    'never-published',
    'never-served',
    'two-releases',
    'not-followed',
    'branch-not-taken',
    'not-newer',
    'withdrawn',
    'result-missing',
    'sign-off-missing',
    'not-soaked',
    'frozen',
    'platform-lacking',
    'annotation-lacking',
    'referrers-missing',
    'attestation-missing',
    'commit-unsigned',
    'nothing-before',
    'parcel-untrusted',
    'parcels-only',
    'parcels-not-received',
    'served-already',
    'not-served-before',
    'no-such-line',
    'line-served',
    'repository-changed',
    'build-failed',
    'staged-otherwise',
    'other-platform',
    'platform-twice',
    'platform-contradicted',
    'mixed-commits',
    'mixed-versions',
    'other-product',
    'other-entries',
    'ledger-in-use',
    'not-our-file',
    'not-overwritable',
  ],
  missing: [
    'output-missing',
    'platform-missing',
    'file-unreadable',
    'wait-ended',
    'included-missing',
    'nothing-to-stage',
    'nothing-to-point',
    'nobody-to-tell',
    'nothing-to-rebuild',
    'nothing-to-adopt',
    'origin-unknown',
    'nothing-to-assemble',
    'followed-build-failed',
    'build-incomplete',
    'build-without-end',
    'image-missing',
    'output-image-missing',
    'layer-missing',
    'output-ambiguous',
    'output-unrecognised',
    'parcel-unrecognised',
    'blob-missing',
    'blob-left-out',
    'files-missing',
    'no-repository',
    'no-catalogue',
    'content-gone',
    'content-removed',
    'entries-compacted',
    'content-lacking',
    'changes-unknown',
    'login-not-stored',
    'ledger-missing',
    'ledger-empty',
  ],
  denied: [
    'login-needed',
    'login-refused',
    'no-right',
    'credential-missing',
    'credential-malformed',
    'command-failed',
    'identity-missing',
    'identity-malformed',
    'identity-expired',
    'identity-other-audience',
    'identity-without-rule',
    'identity-untrusted',
    'identity-refused',
    'token-service-unsafe',
    'token-service-other',
    'login-exposed',
    'logins-unsafe',
    'logins-unreadable',
    'login-helper',
    'ledger-denied',
  ],
  unavailable: [
    'host-unknown',
    'not-listening',
    'tls-untrusted',
    'proxy-refused',
    'not-a-registry',
    'timed-out',
    'connection-broken',
    'registry-fault',
    'rate-limited',
    'upload-lost',
    'request-too-large',
    'redirect-circle',
    'location-missing',
    'token-missing',
    'answer-unexpected',
    'ledger-unavailable',
    'ledger-other-form',
    'port-taken',
    'answer-unwritable',
    'system-refused',
    'destination-unsafe',
    'listing-endless',
    'tag-not-kept',
    'tag-not-removed',
    'tags-incomplete',
    'ledger-contended',
  ],
  corrupt: [
    'manifest-corrupt',
    'image-config-corrupt',
    'content-corrupt',
    'layout-corrupt',
    'archive-corrupt',
    'unsafe-archive',
    'nested-too-deeply',
    'too-many-manifests',
    'answer-too-large',
    'stored-otherwise',
    'files-changed',
    'ledger-corrupt',
    'ledger-entry-corrupt',
    'ledger-facts-corrupt',
    'ledger-rewritten',
  ],
  interrupted: ['interrupted'],
} as const satisfies Record<Fault, readonly string[]>;

/** The stable code of an error: `fixed-tag-taken`. */
export type ErrorCode = (typeof errorCodes)[Fault][number];

/** Every code. */
export const allErrorCodes: readonly ErrorCode[] = faults.flatMap((fault): readonly ErrorCode[] => errorCodes[fault]);

const faultOf: ReadonlyMap<string, Fault> = new Map(
  faults.flatMap((fault) => errorCodes[fault].map((code): [string, Fault] => [code, fault])),
);

/** The parts of an error message. */
export interface Problem {
  /** What happened, one line, no full stop. */
  what: string;
  /** The object it happened to: a file, a reference, a tag. Several lines where there are several. */
  object?: Text;
  /** The release that a digest in the error is of: told where the error passes a ledger that knows. */
  release?: string;
  /** The cause or the rule. Several lines where there are several causes. */
  why?: Text;
  /** What the user can do next. */
  next?: Text;
}

/** A failure that a user can cause or meet. Anything else that is thrown is a defect in Hod. */
export class HodError extends Error {
  override readonly name = 'HodError';
  readonly fault: Fault;

  constructor(
    readonly code: ErrorCode,
    readonly problem: Problem,
    options?: { cause?: unknown },
  ) {
    super(problem.why === undefined ? problem.what : `${problem.what}: ${asOneLine(problem.why)}`, options);
    this.fault = faultOf.get(code) ?? 'defect';
  }

  /** The exit code of the program when this error ends it. */
  get exitCode(): number {
    return exitCodes[this.fault];
  }
}

/** The `code` of a Node.js system or socket error (`ENOENT`, `ECONNREFUSED`, …), if it has one. */
export function systemErrorCode(error: unknown): string | undefined {
  const code: unknown =
    typeof error === 'object' && error !== null && !(error instanceof HodError) && 'code' in error
      ? error.code
      : undefined;
  return typeof code === 'string' ? code : undefined;
}

/** What anything that was thrown says of itself. */
export function messageOf(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}
