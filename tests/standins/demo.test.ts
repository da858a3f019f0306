import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startService } from '../../src/compose/running-service.ts';
import { PROJECT } from '../../src/project.ts';
import { listQueue } from '../../src/service/delivery/queue.ts';
import { checkAll } from '../../src/service/dns/check-runs.ts';
import { check, checkHistory } from '../../src/service/dns/checks.ts';
import { entriesAfter } from '../../src/service/journal/journeys.ts';
import { ledger, sendingFailures } from '../../src/service/limits/statements.ts';
import { overview } from '../../src/service/overview/overview.ts';
import { startWorld } from '../../src/standins/demo-start.ts';
import type { World } from '../../src/standins/demo-world.ts';
import { lookServer } from '../../src/standins/look-page.ts';
import { DOMAINS, NEWSLETTER, RELAY } from '../../src/standins/world.ts';

let world: World;
const folder = mkdtempSync(join(tmpdir(), 'tenedor-demo-'));
beforeAll(async () => {
  world = await startWorld(
    { folder, startService },
    { smtp: 0, submission: 0, submissions: 0, imap: 0, imaps: 0, pop3: 0, pop3s: 0, web: 0 },
    true,
  );
});
afterAll(async () => {
  await world.close();
  rmSync(folder, { recursive: true, force: true });
});

/** What is the matter with each domain of the demo (docs/guide.md). */
const FAULTS: Record<string, string[]> = {
  'faroquieto.example': [],
  'olmobakery.example': [],
  'rutaverde.example': ['spf-host-left-out', 'dmarc-none'],
  'marisma-museum.example': ['dkim-doubled', 'dmarc-doubled'],
  'tallernuno.example': ['mx-left-over'],
  'coropuerto.example': ['spf-several', 'dkim-cut-short'],
  'ibisclinic.example': [],
  'imprentalunar.example': [],
};

describe('the demo world', () => {
  it('has each fault of its table, found by name, and nothing else', async () => {
    const { domains } = await checkAll(world.service.context);
    const found = Object.fromEntries(
      domains.map((one) => [one.domain, one.findings.filter((finding) => finding.verdict !== 'good').map((finding) => finding.code)]),
    );
    // On its way here: nothing is published for it yet.
    expect(found).toEqual({ ...FAULTS, 'velanorte.example': ['mx-elsewhere', 'dkim-none', 'dmarc-none'] });
  });

  it('its journal reads well, to the last sentence', () => {
    const { context } = world.service;
    const seen = new Set<string>();
    for (let place = 0, more = true; more; ) {
      const page = entriesAfter(context, place, { domain: null, journey: null, search: '' });
      for (const { event, text } of page.entries) {
        seen.add(event);
        expect(text, event).not.toMatch(/undefined|NaN|null|\[object|^\s*$/);
      }
      ({ place, more } = page);
    }
    expect(seen.size).toBeGreaterThan(15);
  });

  it.each(Object.entries(FAULTS).filter(([, codes]) => codes.length > 0))(
    '%s is wholly good once the remedies are typed in, and have arrived',
    async (domain) => {
      const { context } = world.service;
      const { findings } = await check(context, domain);
      world.dns.typeIn(...findings.flatMap((finding) => finding.publish));
      const bad = findings.filter((finding) => finding.verdict !== 'good').map((finding) => finding.subject);
      const early = await check(context, domain);
      // The resolver has heard the old answers a moment ago.
      expect(early.findings.filter((finding) => finding.verdict === 'waiting').map((finding) => finding.subject)).toEqual(bad);
      expect(early.findings.filter((finding) => finding.verdict !== 'waiting' && finding.verdict !== 'good')).toEqual([]);
      world.resolver.forget();
      expect(await check(context, domain)).toMatchObject({ good: true, readiness: 100 });
      const turns = checkHistory(context, domain).filter((turn) => turn.subject === bad[0]);
      expect(turns.map((turn) => turn.verdict)).toEqual([
        'good',
        'waiting',
        findings.find((one) => one.subject === bad[0])?.verdict,
        'good',
      ]);
    },
  );

  it('a customer’s DNS form takes what the finding says, and appends the zone by itself', async () => {
    const { context } = world.service;
    const domain = 'olmobakery.example';
    const look = lookServer({ dns: world.dns, providers: () => 'nothing yet', domains: [domain] });
    look.listen(0, '127.0.0.1');
    await once(look, 'listening');
    const url = `http://127.0.0.1:${(look.address() as { port: number }).port}/zones/${domain}`;
    const send = (form: Record<string, string>) => fetch(url, { method: 'POST', body: new URLSearchParams(form), redirect: 'manual' });
    for (const { name, type, value } of world.dns.recordsBelow(domain)) await send({ act: 'remove', name, type, value });
    world.resolver.forget();
    const { findings } = await check(context, domain);
    expect(findings.filter((one) => one.verdict === 'missing')).toHaveLength(4);
    for (const { relativeName, type, value } of findings.flatMap((one) => one.publish))
      expect((await send({ act: 'add', name: relativeName ?? '', type, value })).status).toBe(303);
    await send({ act: 'add', name: '<script>', type: 'TXT', value: 'x' });
    await send({ act: 'add', name: 'note', type: 'TXT', value: '<script>alert(1)</script>' });
    world.resolver.forget();
    expect(await check(context, domain)).toMatchObject({ good: true, readiness: 100 });
    const shown = await (await fetch(url)).text();
    expect(shown).toContain('_dmarc.olmobakery.example');
    expect(shown).not.toContain('<script>');
    look.close();
    look.closeAllConnections();
  });

  it('has a believable past: ledger and journeys agree, one domain near its limit, one at it', async () => {
    const { context } = world.service;
    const { db } = context;
    for (const { domain, role } of DOMAINS) {
      if (role !== 'home') continue;
      const view = await ledger(context, domain, context.clock.steady() - 50 * 24 * 3600_000);
      expect(view.total.sends, domain).toBeGreaterThan(50);
      const outside = db.one<{ n: number }>(
        `SELECT count(*) AS n FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE j.domain = ? AND j.kind = 'submitted' AND r.state IN ('relayed', 'failed')`,
        domain,
      );
      expect(outside?.n, domain).toBe(view.total.sends);
    }
    const { attention } = await overview(context, 0);
    const limits = attention.filter((one) => one.kind === 'limit').map((one) => [one.domain, one.harm]);
    expect(limits).toContainEqual(['tallernuno.example', 'medium']);
    expect(limits).toContainEqual([NEWSLETTER.domain, 'high']);
    // A smart host with a spent allowance, a brake, and a sender unlike itself.
    expect(limits).toContainEqual([null, 'medium']);
    expect(attention).toContainEqual(expect.objectContaining({ kind: 'stop', domain: NEWSLETTER.domain }));
    expect(attention).toContainEqual(expect.objectContaining({ kind: 'unusual', domain: 'marisma-museum.example' }));
    expect((await listQueue(context, { held: 'brake' })).recipients).toBe(6);
    expect((await ledger(context, 'outlet:carrier relay', 0)).limits).toMatchObject([{ used: RELAY.daily, amount: RELAY.daily }]);
  });
});

it('the tour does the whole job, and each step comes out as expected', async () => {
  const child = spawn(process.execPath, [join(PROJECT, 'dist/tenedor.mjs'), 'demo', '--tour'], { stdio: ['ignore', 'pipe', 'pipe'] });
  let text = '';
  for (const stream of [child.stdout, child.stderr])
    stream.on('data', (bytes) => {
      text += bytes;
    });
  const [code] = await once(child, 'close');
  expect(text).toContain('Every step came out as expected.');
  expect(text.match(/✓ as expected/g)).toHaveLength(24);
  expect(code).toBe(0);
});

it('why sends failed is told by what the other servers said, for any period', async () => {
  const { context } = world.service;
  const [first, ...others] = (await sendingFailures(context, null, { days: 7 })).reasons;
  expect(first).toMatchObject({ reason: '550 5.1.1 Nobody is called …', destinations: ['northpost.example'] });
  expect(others.map((one) => one.reason).join()).toContain('550 5.7.26');
  const { reasons: choir } = await sendingFailures(context, 'coropuerto.example', { days: 7 });
  expect(choir.every((one) => one.reason.startsWith('550 5.7.26'))).toBe(true);
  const now = context.clock.now();
  const days = async (from: number, to: number) =>
    (await sendingFailures(context, null, { days: 1, since: now - from * 86_400_000, before: now - to * 86_400_000 })).reasons;
  const sum = (reasons: { sends: number }[]): number => reasons.reduce((total, one) => total + one.sends, 0);
  expect(sum(await days(7, 3)) + sum(await days(3, 0))).toBe(sum(await days(7, 0)));
  await expect(days(1, 2)).rejects.toThrow('ends before it begins');
});
