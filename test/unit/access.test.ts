import fc from 'fast-check';
import { coversScopes, formatScopes, parseChallenges, type Scope } from '../../src/core/access/challenge';
import { explainRefusal, explainUnusable, readJobClaims } from '../../src/core/access/job-token';
import { Secrets } from '../../src/core/access/secrets';
import { Progress, progressLine } from '../../src/cli/progress';
import { keepSeen } from '../support/seen-errors';

describe('challenges', () => {
  const name = fc.constantFrom('realm', 'service', 'scope', 'error');
  const value = fc.stringMatching(/^[a-zA-Z0-9:/., "\\=-]{0,30}$/);
  const challenge = fc.record({
    scheme: fc.constantFrom('Basic', 'Bearer', 'Negotiate'),
    parameters: fc.dictionary(name, value),
  });

  test('what is written is read back, several at a time, with quotes and commas in their values', () => {
    fc.assert(
      fc.property(fc.array(challenge, { minLength: 1, maxLength: 3 }), (challenges) => {
        const header = challenges
          .map(({ scheme, parameters }) => {
            const parts = Object.entries(parameters).map(([key, text]) => `${key}="${text.replace(/["\\]/g, '\\$&')}"`);
            return parts.length === 0 ? scheme : `${scheme} ${parts.join(',')}`;
          })
          .join(', ');
        expect(parseChallenges(header).map((each) => [each.scheme, Object.fromEntries(each.parameters)])).toEqual(
          challenges.map(({ scheme, parameters }) => [scheme.toLowerCase(), { ...parameters }]),
        );
      }),
    );
  });

  test.each([
    ['Bearer realm=https://a.test/token,service=b', [['bearer', { realm: 'https://a.test/token', service: 'b' }]]],
    ['', []],
    ['Basic', [['basic', {}]]],
  ])('%s', (header, expected) => {
    expect(parseChallenges(header).map((each) => [each.scheme, Object.fromEntries(each.parameters)])).toEqual(expected);
  });

  test('a token is enough for exactly the requests whose every scope it holds', () => {
    const scope: fc.Arbitrary<Scope> = fc.record({
      repository: fc.constantFrom('a', 'b', 'c'),
      access: fc.constantFrom('read', 'write'),
    });
    const rights = (scopes: readonly Scope[]) =>
      new Set(
        scopes.flatMap(({ repository, access }) =>
          (access === 'write' ? ['read', 'write'] : ['read']).map((each) => `${repository} ${each}`),
        ),
      );
    fc.assert(
      fc.property(fc.array(scope), fc.array(scope), (held, wanted) => {
        const [has, needs] = [rights(held), rights(wanted)];
        expect(coversScopes(held, wanted)).toBe([...needs].every((each) => has.has(each)));
      }),
    );
    expect(
      formatScopes([
        { repository: 'b', access: 'write' },
        { repository: 'a', access: 'read' },
      ]),
    ).toEqual(['repository:a:pull', 'repository:b:pull,push']);
  });
});

describe('secrets', () => {
  const part = fc.string({ minLength: 4, maxLength: 20, unit: 'grapheme-ascii' });
  const secretText = part.map((text) => `${text}-7Q`);
  /** The forms in which a registry, a token service or a program may repeat a text. */
  const formsOf = (text: string): string[] => {
    const bytes = Buffer.from(text);
    return [
      text,
      JSON.stringify(text),
      JSON.stringify(text).replaceAll('/', '\\/'),
      encodeURIComponent(text),
      encodeURIComponent(text).replace(/%../g, (escape) => escape.toLowerCase()),
      new URLSearchParams({ password: text }).toString(),
      bytes.toString('hex'),
      bytes.toString('hex').toUpperCase(),
      Buffer.from(`una:${text}`).toString('base64'),
      Buffer.from(`una:${text}`).toString('base64url'),
      Buffer.from(`x${text}`).toString('base64'),
      Buffer.from(`xy${text}yx`).toString('base64'),
    ];
  };

  test('are taken out of what others say, in each form in which they are sent', () => {
    fc.assert(
      fc.property(secretText, fc.string(), fc.string(), (secret, before, after) => {
        const secrets = new Secrets();
        secrets.keep(secret, 'registry.test', 'una');
        for (const form of formsOf(secret)) {
          const safe = secrets.redact(`${before} ${form} ${after}`);
          expect(safe).toContain('***');
          expect(safe.includes(form)).toBe(false);
        }
      }),
      { numRuns: 200 },
    );
  });

  test('that overlap leave nothing of either', () => {
    fc.assert(
      fc.property(part, secretText, part, (first, shared, last) => {
        const secrets = new Secrets();
        secrets.keep(`${first}-7${shared}`, 'one');
        secrets.keep(`${shared}${last}-7`, 'other');
        secrets.keep(shared, 'third');
        expect(secrets.redact(`<${first}-7${shared}${last}-7>`)).toBe('<***>');
      }),
      { numRuns: 200 },
    );
  });

  test('that are words damage nothing, and are named once', () => {
    const secrets = new Secrets();
    secrets.keep('digest', 'registry.test');
    secrets.keep('digest', 'registry.test');
    secrets.keep('abc', 'other.test');
    expect(secrets.redact('{"digest":"abc"}')).toBe('{"digest":"abc"}');
    expect(secrets.unsearchable).toEqual(['registry.test', 'other.test']);
  });
});

describe('job identities', () => {
  const now = 1_800_000_000;
  const purpose = { registry: 'registry.test', service: 'https://tokens.test/exchange', audience: 'registries' };
  const token = (claims: object) => `e30.${Buffer.from(JSON.stringify(claims)).toString('base64url')}.c2ln`;

  test('are read without being trusted', () => {
    const claims = { iss: 'https://ci.test', sub: 'project:a', aud: ['x', 'y'], exp: now };
    expect(readJobClaims(token(claims))).toEqual({
      issuer: claims.iss,
      subject: claims.sub,
      audiences: ['x', 'y'],
      expires: now,
    });
    expect(readJobClaims('not a token')).toBeUndefined();
    expect(readJobClaims(`a.${Buffer.from('[]').toString('base64url')}.b`)).toBeUndefined();
  });

  test('that cannot be accepted are not even sent', () => {
    const codeOf = (text: string) => {
      const error = explainUnusable(text, purpose, now);
      if (error !== undefined) {
        keepSeen(error.code, error.problem);
      }
      return error?.code;
    };
    expect(codeOf('nonsense')).toBe('identity-malformed');
    expect(codeOf(token({ aud: 'registries', exp: now }))).toBe('identity-expired');
    expect(codeOf(token({ aud: 'others', exp: now + 1 }))).toBe('identity-other-audience');
    expect(codeOf(token({ aud: ['others', 'registries'], exp: now + 1 }))).toBeUndefined();
  });

  test('a refusal without the words of the standard is still told with what there is', () => {
    const { code, problem } = explainRefusal(token({}), purpose, { status: 418, error: undefined, said: undefined });
    keepSeen(code, problem);
    expect(code).toBe('identity-refused');
    expect(problem.why).toBe('https://tokens.test/exchange answered 418');
    expect(problem.next).toContain('`exchange:`');
  });
});

test('progress tells bytes, rate and the time that is left', () => {
  const progress = new Progress();
  progress.begin(80_000_000, 1000);
  progress.begin(20_000_000, 1500);
  progress.sent(25_000_000);
  expect(progressLine(progress, 6000)).toBe('25.0 MB of 100 MB sent, 5.00 MB/s, about 15 s left, 2 blobs on the way');
  progress.sent(75_000_000);
  progress.end();
  expect(progressLine(progress, 21_000)).toBe(
    '100 MB of 100 MB sent, 5.00 MB/s, waiting for the registry, 1 blob on the way',
  );
});
