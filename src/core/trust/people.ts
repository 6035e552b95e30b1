/** The SSH keys of people, as OpenSSH reads them (ssh-keygen(1), "ALLOWED SIGNERS"). */
export interface KnownPerson {
  /** The names that the line gives to the key, with wildcards, as ssh-keygen reads them. */
  readonly names: string;
  /** The whole line. */
  readonly line: string;
}

const keyType =
  /^(ssh-ed25519|ecdsa-sha2-nistp(256|384|521)|ssh-rsa|sk-ssh-ed25519@openssh\.com|sk-ecdsa-sha2-nistp256@openssh\.com)$/;

/** Reads a file of allowed signers, or says which line is none. What a line means is decided by ssh-keygen. */
export function readPeople(text: string): { readonly people: readonly KnownPerson[] } | { readonly problem: string } {
  const people: KnownPerson[] = [];
  for (const [at, full] of text.split(/\r?\n/).entries()) {
    const line = full.trim();
    if (line === '' || line.startsWith('#')) {
      continue;
    }
    const words = line.split(/[ \t]+/);
    const [names = ''] = words;
    if (!words.some((word) => keyType.test(word)) || keyType.test(names)) {
      return { problem: `line ${at + 1} is not \`NAME KEY-TYPE KEY\`` };
    }
    people.push({ names, line });
  }
  return people.length === 0 ? { problem: 'it names nobody' } : { people };
}
