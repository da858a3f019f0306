import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { keyRecordText } from '../../src/core/dkim/key-record.ts';
import { reverseName } from '../../src/core/records/reverse-name.ts';
import { composeSheet } from '../../src/core/records/sheet.ts';
import { quotedStrings, zoneFile } from '../../src/core/records/zone-file.ts';

it('texts are cut into strings of at most 255 octets and read back the same (RFC 1035 §3.3.14)', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme-ascii', maxLength: 900 }), (text) => {
      const strings = [...quotedStrings(text).matchAll(/"((?:[^"\\]|\\.)*)"/g)].map((found) => (found[1] ?? '').replace(/\\(.)/g, '$1'));
      expect(strings.join('')).toBe(text);
      for (const one of strings) expect(one.length).toBeLessThanOrEqual(255);
    }),
  );
});

it('reverse names of both families (RFC 1035 §3.5, RFC 3596 §2.5)', () => {
  expect(reverseName('192.0.2.25')).toBe('25.2.0.192.in-addr.arpa');
  expect(reverseName('4321:0:1:2:3:4:567:89ab')).toBe('b.a.9.8.7.6.5.0.4.0.0.0.3.0.0.0.2.0.0.0.1.0.0.0.0.0.0.0.1.2.3.4.ip6.arpa');
});

it('the zone file is one that a name server loads, with the key whole', () => {
  const key = 'A'.repeat(392);
  const sheet = composeSheet({
    domain: 'shop.example',
    host: { name: 'mail.host.example', addresses: ['192.0.2.25', '2001:db8::25'] },
    keys: [{ selector: 'k1', publicKey: key }],
  });
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-zone-'));
  const file = join(folder, 'zone');
  // The sheet is a part of a zone; a whole one has an SOA and name servers too.
  const head = '$TTL 300\n@ IN SOA ns.other.example. root.other.example. 1 3600 600 86400 60\n@ IN NS ns.other.example.\n';
  writeFileSync(file, head + zoneFile('shop.example', sheet));
  const { status, stdout } = spawnSync('named-checkzone', ['-D', 'shop.example', file], { encoding: 'utf8' });
  rmSync(folder, { recursive: true });
  expect(status).toBe(0);
  const loaded = stdout.split('\n').find((line) => line.startsWith('k1._domainkey.shop.example.')) ?? '';
  const text = [...loaded.matchAll(/"([^"]*)"/g)].map((found) => found[1]).join('');
  expect(text).toBe(keyRecordText(key));
  expect(stdout).toMatch(/^shop\.example\.\s+3600\s+IN MX\s+10 mail\.host\.example\.$/m);
});
