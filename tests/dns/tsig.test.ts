import fc from 'fast-check';
import { expect, it } from 'vitest';
import { signMessage, type TsigKey, verifyReply } from '../../src/dns/tsig.ts';

const KEY: TsigKey = { name: 'tenedor', algorithm: 'hmac-sha256', secret: Buffer.from('a secret of some length').toString('base64') };
const NOW = 1_790_000_000;
const MESSAGE = Buffer.from('123428000001000000000000047a6f6e65076578616d706c650000060001', 'hex');

// A real name server is the peer in tests/dns/update.test.ts; here is what it can't be made to send.
it('a reply that was changed, is unsigned or of another key is not believed', () => {
  const { mac } = signMessage(MESSAGE, KEY, NOW);
  // A reply is signed over the request's MAC too, so one signed like a request is wrong already.
  const reply = signMessage(MESSAGE, KEY, NOW).signed;
  expect(verifyReply(reply, KEY, mac, NOW)).toMatchObject({ kind: 'bad', reason: 'the signature of the reply is wrong' });
  expect(verifyReply(MESSAGE, KEY, mac, NOW)).toMatchObject({ kind: 'bad', reason: 'the reply is not signed' });
  expect(verifyReply(reply, { ...KEY, name: 'other' }, mac, NOW).kind).toBe('bad');
  fc.assert(fc.property(fc.uint8Array({ maxLength: 200 }), (octets) => verifyReply(Buffer.from(octets), KEY, mac, NOW).kind === 'bad'));
  fc.assert(
    fc.property(fc.nat(reply.length - 1), fc.nat(255), (at, octet) => {
      const changed = Buffer.from(reply);
      changed[at] = octet;
      return verifyReply(changed, KEY, mac, NOW).kind === 'bad';
    }),
  );
});
