import { createPrivateKey, generateKeyPairSync } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { caaNames, permitsAuthority } from '../../src/core/certificates/caa.ts';
import { ChainFault, Roots, readChain } from '../../src/core/certificates/chain.ts';
import { certificateFindings } from '../../src/core/certificates/findings.ts';
import { ByName, coversName } from '../../src/core/certificates/names.ts';
import { nextTry, renewalTime, timeInWindow } from '../../src/core/certificates/renewal.ts';
import { StandInAuthority } from '../../src/standins/authority.ts';
import { selfMade } from '../support/self-made.ts';

const DAY = 24 * 3600_000;
const NOW = Date.UTC(2026, 10, 1);
const authority = await StandInAuthority.make('Test', { http: async () => null, txt: async () => [] }, { days: 90, now: () => NOW });
const roots = new Roots([authority.rootPem]);
const codes = (name: string, pem: string, { now = NOW, isRenewed = false, known = roots } = {}): string[] =>
  certificateFindings(name, readChain(pem, known), { now, isRenewed }).map((one) => one.code);
const pieces = (pem: string): string[] => pem.split(/(?<=-----END CERTIFICATE-----\n)/).filter((one) => one !== '');

describe('names', () => {
  it('a star stands for one whole label at the beginning (RFC 9525 §6.3)', () => {
    for (const [one, host, is] of [
      ['mail.shop.example', 'mail.shop.example', true],
      ['*.shop.example', 'mail.shop.example', true],
      ['*.shop.example', 'a.mail.shop.example', false],
      ['*.shop.example', 'shop.example', false],
      ['*.example', 'shop.example', false],
      ['m*.shop.example', 'mail.shop.example', false],
      ['mail.*.example', 'mail.shop.example', false],
      ['*.shop.example', '*.shop.example', true],
      ['shop.example', 'mail.shop.example', false],
    ] as const)
      expect(coversName(one, host), `${one} for ${host}`).toBe(is);
  });

  it('of several the one is shown that is valid, trusted, and lasts longest', () => {
    const one = {
      id: 'one',
      names: ['a.example.example'],
      notBefore: NOW - DAY,
      notAfter: NOW + DAY,
      isTrusted: true,
      isSelfSigned: false,
    };
    const expired = { ...one, id: 'expired', notAfter: NOW - 1 };
    const own = { ...one, id: 'own', isTrusted: false, isSelfSigned: true, notAfter: NOW + 3650 * DAY };
    const longer = { ...one, id: 'longer', notAfter: NOW + 2 * DAY };
    const star = { ...one, id: 'star', names: ['*.example.example'], notAfter: NOW + 3 * DAY };
    const of = (...all: (typeof one)[]): ByName<typeof one> => {
      const held = new ByName<typeof one>();
      for (const each of all) held.put(each);
      return held;
    };
    const name = 'a.example.example';
    expect(of(expired, own, one, longer).for(name, NOW)).toBe(longer);
    expect(of(expired, own).for(name, NOW)).toBe(own);
    expect(of(expired).for(name, NOW)).toBe(expired);
    expect(of(one, star).for(name, NOW)).toBe(star);
    expect(of(one).for('b.example.example', NOW)).toBeUndefined();
    const held = of(one, { ...one, names: ['b.example.example'] });
    expect([held.for(name, NOW), held.for('b.example.example', NOW)?.id]).toEqual([undefined, 'one']);
    expect([held.drop('one'), held.drop('one'), held.all]).toEqual([true, false, []]);
  });
});

describe('chains', () => {
  it('each state of a chain has its finding', async () => {
    const { pem, key } = await authority.give(['mail.shop.example'], null);
    const [leaf = '', middle = ''] = pieces(pem);
    expect(codes('mail.shop.example', pem)).toEqual(['certificate-good']);
    expect(codes('imap.shop.example', pem)).toEqual(['certificate-other-name']);
    expect(codes('mail.shop.example', leaf)).toEqual(['certificate-chain-incomplete']);
    expect(codes('mail.shop.example', middle + leaf)).toEqual(['certificate-chain-order']);
    expect(codes('mail.shop.example', pem + authority.rootPem, { known: new Roots([]) })).toEqual(['certificate-untrusted']);
    const stranger = await authority.give(['other.example.example'], null);
    expect(codes('mail.shop.example', leaf + middle + pieces(stranger.pem)[0])).toEqual(['certificate-chain-order']);
    expect(codes('mail.shop.example', pem, { now: NOW + 70 * DAY })).toEqual(['certificate-expiring']);
    expect(codes('mail.shop.example', pem, { now: NOW + 70 * DAY, isRenewed: true })).toEqual(['certificate-good']);
    expect(codes('mail.shop.example', pem, { now: NOW + 76 * DAY, isRenewed: true })).toEqual(['certificate-expiring']);
    expect(codes('mail.shop.example', pem, { now: NOW + 91 * DAY })).toEqual(['certificate-expired']);
    expect(codes('mail.shop.example', pem, { now: NOW - DAY })).toEqual(['certificate-not-yet']);
    expect(readChain(pem, roots, createPrivateKey(key as string)).isTrusted).toBe(true);
    const { privateKey } = generateKeyPairSync('ec', { namedCurve: 'P-256' });
    expect(() => readChain(pem, roots, privateKey)).toThrow('The key does not belong to the certificate.');
  });

  it('what can be forged today is weak, and what has signed itself is told', async () => {
    const own = async (bits: number, hash?: string) => codes('a.shop.example', (await selfMade('a.shop.example', bits, hash, NOW)).pem);
    expect(await own(2048)).toEqual(['certificate-self-signed']);
    expect(await own(1024)).toContain('certificate-weak');
    expect(await own(2048, 'SHA-1')).toContain('certificate-weak');
  });

  it('whatever is given, it is read or refused in one sentence', async () => {
    const { pem } = await authority.give(['mail.shop.example'], null);
    fc.assert(
      fc.property(fc.nat(pem.length), fc.string({ maxLength: 40 }), fc.nat(60), (at, junk, cut) => {
        try {
          readChain(pem.slice(0, at) + junk + pem.slice(at + cut), roots);
        } catch (error) {
          expect(error).toBeInstanceOf(ChainFault);
        }
      }),
      { numRuns: 300 },
    );
  });
});

describe('CAA (RFC 8659)', () => {
  const issue = (value: string, isCritical = false) => ({ tag: 'issue', value, isCritical });
  const wild = (value: string) => ({ tag: 'issuewild', value, isCritical: false });
  it('says which authority may, for a name and for one with a star', () => {
    for (const [records, isWildcard, may] of [
      [[], false, true],
      [[issue('ca.example')], false, true],
      [[issue('CA.example; account=1')], false, true],
      [[issue('other.example')], false, false],
      [[issue('other.example'), issue('ca.example')], true, true],
      [[issue(';')], false, false],
      [[issue('ca.example'), wild('other.example')], true, false],
      [[issue('other.example'), wild('ca.example')], true, true],
      [[issue('other.example'), wild('ca.example')], false, false],
      [[wild('other.example')], false, true],
      [[{ tag: 'iodef', value: 'mailto:a@shop.example', isCritical: true }], false, true],
      [[issue('ca.example'), { tag: 'unheard', value: 'x', isCritical: true }], false, false],
    ] as const)
      expect(permitsAuthority(records, ['ca.example'], isWildcard), JSON.stringify([records, isWildcard])).toBe(may);
    expect(caaNames('*.mail.shop.example')).toEqual(['mail.shop.example', 'shop.example', 'example']);
  });
});

describe('renewing', () => {
  it('at two thirds of its life, a little earlier by chance; in the authority’s window where it has one', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 400 }), fc.double({ min: 0, max: 1, noNaN: true, maxExcluded: true }), (days, random) => {
        const life = { notBefore: NOW, notAfter: NOW + days * DAY };
        const share = (renewalTime(life, random) - NOW) / (days * DAY);
        expect(share).toBeGreaterThan(0.63);
        expect(share).toBeLessThanOrEqual(2 / 3 + 1e-6);
        const at = timeInWindow({ from: NOW, to: NOW + days }, random);
        expect(at >= NOW && at <= NOW + days).toBe(true);
      }),
    );
  });

  it('after failures at ever longer distance up to a day, and never before the authority wants it', () => {
    const waits = Array.from({ length: 12 }, (_one, at) => (nextTry(NOW, at + 1, 0.5, null) - NOW) / 60_000);
    expect(waits.slice(0, 4)).toEqual([10, 20, 40, 80]);
    expect(waits.at(-1)).toBe(1440);
    expect(nextTry(NOW, 1, 0.5, 3 * DAY)).toBe(NOW + 3 * DAY);
  });
});
