import fc from 'fast-check';
import ipaddr from 'ipaddr.js';
import { expect, it } from 'vitest';
import { proxyHeader, readProxyHeader } from '../../src/net/proxy-protocol.ts';

const SIGNATURE = Buffer.from('0d0a0d0a000d0a515549540a', 'hex');

/** A version 2 header as the specification lays it out (§2.2). */
function version2(command: number, family: number, addresses: Buffer, extra = Buffer.alloc(0)): Buffer {
  const length = Buffer.alloc(2);
  length.writeUInt16BE(addresses.length + extra.length);
  return Buffer.concat([SIGNATURE, Buffer.from([0x20 | command, (family << 4) | 1]), length, addresses, extra]);
}

const octets = (address: string): Buffer => Buffer.from(ipaddr.parse(address).toByteArray());
const port = (number: number): Buffer => Buffer.from([number >> 8, number & 255]);

it('what one side writes the other reads, whatever follows', () => {
  fc.assert(
    fc.property(
      fc.oneof(fc.tuple(fc.ipV4(), fc.ipV4()), fc.tuple(fc.ipV6(), fc.ipV6())),
      fc.uint8Array({ maxLength: 40 }),
      ([source, destination], rest) => {
        const header = Buffer.from(proxyHeader(source, destination, 25));
        const read = readProxyHeader(Buffer.concat([header, rest]));
        expect(read).toMatchObject({ kind: 'ok', length: header.length });
        if (read.kind === 'ok') expect(read.source?.address).toBe(ipaddr.parse(source).toString());
      },
    ),
  );
});

it('asks for more while a header may still become one, and for no more than it can be long', () => {
  const whole = [
    Buffer.from('PROXY TCP4 198.51.100.7 192.0.2.25 50000 25\r\n'),
    version2(1, 2, Buffer.concat([octets('2001:db8::7'), octets('2001:db8::25'), port(50000), port(25)]), Buffer.from([4, 0, 1, 0])),
  ];
  for (const header of whole) {
    for (let length = 1; length < header.length; length += 1)
      expect(readProxyHeader(header.subarray(0, length)).kind, `${length}`).toBe('more');
    expect(readProxyHeader(header)).toMatchObject({ kind: 'ok', length: header.length });
  }
  expect(readProxyHeader(Buffer.from(`PROXY ${'x'.repeat(110)}`)).kind).toBe('invalid');
  expect(readProxyHeader(version2(1, 1, Buffer.alloc(5000))).kind).toBe('invalid');
});

it('knows the proxy’s own connections, and refuses what claims too little', () => {
  expect(readProxyHeader(version2(0, 0, Buffer.alloc(0)))).toMatchObject({ kind: 'ok', source: null });
  expect(readProxyHeader(Buffer.from('PROXY UNKNOWN\r\n'))).toMatchObject({ kind: 'ok', source: null });
  expect(readProxyHeader(version2(1, 1, Buffer.alloc(8))).kind).toBe('invalid');
  expect(readProxyHeader(version2(7, 1, Buffer.alloc(12))).kind).toBe('invalid');
  for (const line of [
    'PROXY TCP4 2001:db8::1 192.0.2.1 1 2',
    'PROXY TCP6 192.0.2.1 2001:db8::1 1 2',
    'PROXY TCP4 1.2.3 192.0.2.1 1 2',
    'PROXY UDP4 192.0.2.1 192.0.2.2 1 2',
    'proxy TCP4 192.0.2.1 192.0.2.2 1 2',
    'EHLO x.example',
  ])
    expect(readProxyHeader(Buffer.from(`${line}\r\n`)).kind, line).toBe('invalid');
});

it('no octets make it throw', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 300 }), fc.boolean(), (bytes, signed) =>
      ['ok', 'more', 'invalid'].includes(readProxyHeader(signed ? Buffer.concat([SIGNATURE, bytes]) : Buffer.from(bytes)).kind),
    ),
  );
});
