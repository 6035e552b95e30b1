import { createPublicKey } from 'node:crypto';
import { readEnvelope, signedBytes } from '../../src/core/trust/dsse';
import { checkedKey, hasSigned, readPublicKey, type PublicKey } from '../../src/core/trust/public-key';

function keyOf(jwk: Record<string, string>): PublicKey {
  const checked = checkedKey(createPublicKey({ key: jwk, format: 'jwk' }));
  if ('problem' in checked) {
    throw new Error(checked.problem);
  }
  return checked.key;
}

const hexToUrl = (decimal: string): string =>
  Buffer.from(BigInt(decimal).toString(16).padStart(64, '0'), 'hex').toString('base64url');

describe('the examples of the standards', () => {
  it('DSSE v1, protocol.md, "Test Vectors"', () => {
    const text =
      '{"payload": "aGVsbG8gd29ybGQ=", "payloadType": "http://example.com/HelloWorld", "signatures": [{"sig": "A3JqsQGtVsJ2O2xqrI5IcnXip5GToJ3F+FnZ+O88SjtR6rDAajabZKciJTfUiHqJPcIAriEGAHTVeCUjW2JIZA=="}]}';
    const read = readEnvelope(Buffer.from(text));
    if ('problem' in read) {
      throw new Error(read.problem);
    }
    const { envelope } = read;
    expect(Buffer.from(signedBytes(envelope)).toString()).toBe(
      'DSSEv1 29 http://example.com/HelloWorld 11 hello world',
    );
    const key = keyOf({
      kty: 'EC',
      crv: 'P-256',
      x: hexToUrl('46950820868899156662930047687818585632848591499744589407958293238635476079160'),
      y: hexToUrl('5640078356564379163099075877009565129882514886557779369047442380624545832820'),
    });
    expect(hasSigned(key, signedBytes(envelope), envelope.signatures[0]?.signature ?? new Uint8Array())).toBe(true);
    expect(readPublicKey('x')).toHaveProperty('problem');
  });
});
