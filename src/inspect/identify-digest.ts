import { decideIdentity, type DigestFinding } from '../core/identify/identity';
import type { Release } from '../core/ledger/facts';
import { shortestDigest } from '../core/ledger/facts';
import { isDigest } from '../core/oci/digest';
import { answerFrom } from '../ledger/fact-reader';
import type { Ledger } from '../ledger/ledger';

const shortened = /^(?:(?:sha256|sha512):)?([a-f0-9]+)$/;

/** Whether a text is a digest, or eight or more of the first digits of one. */
export function isDigestText(text: string): boolean {
  return isDigest(text) || (shortened.exec(text)?.[1] ?? '').length >= shortestDigest;
}

/** Finds out what a digest is, or one that begins with some digits. */
export function identifyDigest(text: string, ledger: Pick<Ledger, 'read'>): Promise<DigestFinding<Release>> {
  return answerFrom(ledger, (known) => decideIdentity(text, known));
}
