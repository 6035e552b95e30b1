const keyType =
  /^(ssh-ed25519|ecdsa-sha2-nistp(256|384|521)|ssh-rsa|sk-ssh-ed25519@openssh\.com|sk-ecdsa-sha2-nistp256@openssh\.com)$/;

/**
 * Reads the lines of a file of allowed signers (ssh-keygen(1), "ALLOWED SIGNERS"), or says which line is none. What a line means is
 * decided by ssh-keygen.
 */
export function readPeople(text: string): { readonly lines: readonly string[] } | { readonly problem: string } {
  const lines: string[] = [];
  for (const [at, full] of text.split(/\r?\n/).entries()) {
    const line = full.trim();
    if (line === '' || line.startsWith('#')) {
      continue;
    }
    if (!line.split(blanks).some((word) => keyType.test(word)) || keyType.test(namesOfSigner(line))) {
      return { problem: `line ${at + 1} is not \`NAME KEY-TYPE KEY\`` };
    }
    lines.push(line);
  }
  return lines.length === 0 ? { problem: 'it names nobody' } : { lines };
}

const blanks = /[ \t]+/;

/** Returns the names that a line of allowed signers gives to its key, as they stand there. */
export function namesOfSigner(line: string): string {
  return line.split(blanks)[0] ?? '';
}
