import fc from 'fast-check';
import { expect, it } from 'vitest';
import { type BackupManifest, backupName, keptBackups, manifestText, readManifest, timeOfBackup } from '../../src/core/backup/manifest.ts';

const DAY = 24 * 3_600_000;
const START = Date.UTC(2026, 0, 5, 3);
const digest = 'a'.repeat(64);
const MANIFEST: BackupManifest = {
  format: 2,
  version: '1.0.0',
  host: 'mail.host.example',
  at: START,
  database: { version: 18, size: 4096, sha256: digest },
  texts: { count: 1, size: 10, sha256: digest },
  counts: { domains: 1, mailboxes: 1, messages: 1, waiting: 0 },
  lost: [],
  key: null,
};

it('names are times, and nothing else is a name', () => {
  expect(backupName(START)).toBe('2026-01-05T03-00-00Z');
  expect(timeOfBackup(backupName(START + 999))).toBe(START);
  for (const name of ['', '..', '2026-13-05T03-00-00Z', '2026-01-05T03-00-00Z/..', '.unfinished-2026-01-05T03-00-00Z'])
    expect(timeOfBackup(name)).toBeNull();
});

it('a manifest is read whole or not at all', () => {
  expect(readManifest(manifestText(MANIFEST))).toEqual(MANIFEST);
  const key = { salt: 'x', nonce: 'y', sealed: 'z' };
  expect(readManifest(manifestText({ ...MANIFEST, key }))?.key).toEqual(key);
  for (const wrong of ['', '{', 'null', '[]', '1', manifestText(MANIFEST).slice(0, -2)]) expect(readManifest(wrong)).toBeNull();
  for (const name of Object.keys(MANIFEST)) {
    expect(readManifest(manifestText({ ...MANIFEST, [name]: undefined }))).toBeNull();
    expect(readManifest(manifestText({ ...MANIFEST, [name]: { size: -1, count: 1.5, sha256: 'x' } }))).toBeNull();
  }
});

it('a manifest of which anything was changed later is none; the first version had no seal', () => {
  const text = manifestText(MANIFEST);
  const changed = [
    text.replace(String(START), String(START - DAY)),
    text.replace('"lost": []', `"lost": ["${digest}"]`),
    JSON.stringify(MANIFEST),
    text.replace(/"seal": "./, '"seal": "x'),
  ];
  for (const one of changed) {
    expect(one).not.toBe(text);
    expect(readManifest(one)).toBeNull();
  }
  expect(readManifest(JSON.stringify({ ...MANIFEST, version: '0.1.0' }))?.at).toBe(START);
});

it('a year of nights keeps its newest of seven days, five weeks and twelve months', () => {
  const names = Array.from({ length: 365 }, (_, night) => backupName(START + night * DAY));
  const kept = [...keptBackups(names, { daily: 7, weekly: 5, monthly: 12 })].sort();
  expect(kept.slice(-7)).toEqual(names.slice(-7));
  // Sundays before, and the last nights of months.
  expect(kept).toContain('2026-12-27T03-00-00Z');
  expect(kept).toContain('2026-02-28T03-00-00Z');
  expect(kept).not.toContain('2026-02-27T03-00-00Z');
  expect(kept.length).toBeLessThanOrEqual(24);
});

it('whatever the plan: the newest stays, no more than it says, and what was kept once is kept by a larger plan', () => {
  const plans = fc.record({ daily: fc.nat(9), weekly: fc.nat(9), monthly: fc.nat(9) });
  fc.assert(
    fc.property(fc.uniqueArray(fc.integer({ min: 0, max: 900 * 24 }), { maxLength: 80 }), plans, (hours, plan) => {
      const names = hours.map((hour) => backupName(START + (hour * DAY) / 24));
      const kept = keptBackups([...names, 'something else'], plan);
      if (names.length > 0) expect(kept.has([...names].sort().at(-1) as string)).toBe(true);
      expect(kept.size).toBeLessThanOrEqual(Math.max(1, plan.daily + plan.weekly + plan.monthly));
      const larger = keptBackups(names, { daily: plan.daily + 1, weekly: plan.weekly, monthly: plan.monthly });
      for (const name of kept) expect(larger.has(name)).toBe(true);
      // Thinning what is left takes nothing more.
      expect(keptBackups([...kept], plan)).toEqual(kept);
    }),
  );
});

it('of each day the newest whole backup stays, and one that lost texts only where none is whole', () => {
  const names = [
    '2026-11-25T06-00-00Z',
    '2026-11-25T18-00-00Z',
    '2026-11-26T06-00-00Z',
    '2026-11-26T18-00-00Z',
    '2026-11-27T06-00-00Z',
    '2026-11-27T18-00-00Z',
  ];
  const broken = new Set(['2026-11-25T06-00-00Z', '2026-11-25T18-00-00Z', '2026-11-26T18-00-00Z', '2026-11-27T18-00-00Z']);
  const kept = keptBackups(names, { daily: 3, weekly: 0, monthly: 0 }, (name) => !broken.has(name));
  // The newest of all stays beside the newest whole one.
  expect([...kept].sort()).toEqual(['2026-11-25T18-00-00Z', '2026-11-26T06-00-00Z', '2026-11-27T06-00-00Z', '2026-11-27T18-00-00Z']);
});
