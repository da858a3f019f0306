import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { keyRecordText } from '../../../src/core/dkim/key-record.ts';
import { reverseName } from '../../../src/core/records/reverse-name.ts';
import { composeSheet, quotedStrings, reverseRequest } from '../../../src/core/records/sheet.ts';
import { zoneChanges } from '../../../src/core/records/zone-changes.ts';
import { zoneFile } from '../../../src/core/records/zone-file.ts';

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
    host: {
      name: 'mail.host.example',
      addresses: ['192.0.2.25', '2001:db8::25'],
      standby: ['reserve.host.example'],
      outletIncludes: ['spf.relay.example'],
      services: { submissions: 465, pop3: 1110 },
    },
    keys: [
      { selector: 'k1', type: 'rsa', publicKey: key },
      { selector: 'e1', type: 'ed25519', publicKey: '11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=' },
    ],
    stage: 'quarantine',
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
  for (const line of [
    /^shop\.example\.\s+3600\s+IN MX\s+10 mail\.host\.example\.$/m,
    /^shop\.example\.\s+3600\s+IN MX\s+20 reserve\.host\.example\.$/m,
    /^shop\.example\.\s+3600\s+IN TXT\s+"v=spf1 a:mail\.host\.example include:spf\.relay\.example -all"$/m,
    /^_dmarc\.shop\.example\.\s+3600\s+IN TXT\s+"v=DMARC1; p=quarantine; rua=mailto:postmaster@shop\.example"$/m,
    /^_submissions\._tcp\.shop\.example\.\s+3600\s+IN SRV\s+0 1 465 mail\.host\.example\.$/m,
    /^_pop3\._tcp\.shop\.example\.\s+3600\s+IN SRV\s+30 1 1110 mail\.host\.example\.$/m,
    /^e1\._domainkey\.shop\.example\.\s+3600\s+IN TXT\s+"v=DKIM1; k=ed25519; p=11qYAYKx[^"]*"$/m,
  ])
    expect(stdout).toMatch(line);
});

it('the request for reverse DNS names each address, both ways of writing it, and the name', () => {
  const text = reverseRequest({ name: 'mail.host.example', addresses: ['192.0.2.25', '2001:db8::25'] }, true);
  expect(text).toContain('192.0.2.25 should resolve to mail.host.example');
  expect(text).toContain('(25.2.0.192.in-addr.arpa. IN PTR mail.host.example.)');
  expect(text).toContain('.8.b.d.0.1.0.0.2.ip6.arpa. IN PTR mail.host.example.)');
  expect(text).toContain('already point to these addresses');
  expect(reverseRequest({ name: 'mail.host.example', addresses: ['192.0.2.25'] }, false)).not.toContain('already');
});

it('a zone is brought in line by what differs; the customer’s own records are left alone', () => {
  const published: Record<string, string[]> = {
    'MX shop.example': ['10 mail.host.example', '20 mx.old.example'],
    'TXT shop.example': ['v=spf1 mx -all', 'site-check=12345'],
    'TXT _dmarc.shop.example': ['v=DMARC1; p=none; rua=mailto:postmaster@shop.example'],
    'TXT www.shop.example': ['hello'],
  };
  const sheet = composeSheet({ domain: 'shop.example', host: { name: 'mail.host.example', addresses: [] }, keys: [], stage: 'none' });
  expect(zoneChanges(sheet, (name, type) => published[`${type} ${name}`] ?? [])).toEqual([
    { action: 'remove', type: 'MX', name: 'shop.example', value: '20 mx.old.example' },
    { action: 'remove', type: 'TXT', name: 'shop.example', value: 'v=spf1 mx -all' },
    { action: 'add', type: 'TXT', name: 'shop.example', value: 'v=spf1 a:mail.host.example -all' },
  ]);
});
