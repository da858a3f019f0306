import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import { afterAll, afterEach, beforeAll, expect, it, vi } from 'vitest';
import type { CheckReport, CheckRun, RecordSheet } from '../../../src/api/dns-schemas.ts';
import type { CheckFacts } from '../../../src/core/checks/domain-checks.ts';
import { CheckThreads } from '../../../src/dns/check-threads.ts';
import { ServerHealth } from '../../../src/dns/server-health.ts';
import { PROJECT } from '../../../src/project.ts';
import type { News } from '../../../src/service/base/ports.ts';
import { runDueChecks } from '../../../src/service/dns/check-runs.ts';
import { NAME_SERVER } from '../../../src/standins/dns-server.ts';
import { HOST, type House, openHouse } from '../../support/house.ts';

const MANY = Array.from({ length: 14 }, (_none, at) => `many${at}.example`);
const PROGRAM = join(PROJECT, 'dist/check-thread.mjs');

let house: House;
let opened: CheckThreads[] = [];
const folder = mkdtempSync(join(tmpdir(), 'tenedor-checks-'));
beforeAll(async () => {
  house = await openHouse();
  house.dns.publish({ name: HOST.name, type: 'A', value: '192.0.2.25' });
  house.dns.publish({ name: HOST.name, type: 'AAAA', value: '2001:db8:25::25' });
  for (const [at, domain] of MANY.entries()) {
    await house.provide(domain);
    // A third has all of its records, a third some, a third none.
    const { records } = (await house.api.call<RecordSheet>('GET', `/domains/${domain}/records`)).body;
    house.dns.typeIn(...(at % 3 === 0 ? records : at % 3 === 1 ? records.filter((one) => one.type === 'MX') : []));
  }
  house.dns.silent.add('many5.example');
});
afterEach(() => {
  for (const threads of opened) threads.stop();
  opened = [];
  vi.useRealTimers();
  vi.restoreAllMocks();
});
afterAll(async () => {
  await house.close();
  rmSync(folder, { recursive: true });
});

const threadsOf = (program: string, health = new ServerHealth(() => performance.now(), 500)): CheckThreads => {
  const through = { address: '127.0.0.1', port: house.dnsPort };
  const dial = [{ to: { address: NAME_SERVER.address, port: 53 }, through }];
  const threads = new CheckThreads(program, { resolvers: [through], timeoutMs: 500, dial, mostAtOnce: 16 }, health, 2);
  opened.push(threads);
  return threads;
};
const factsOf = (domain: string): CheckFacts => ({ domain, role: 'home', host: HOST, keys: [], stage: 'none', next: null });
const run = async (): Promise<CheckRun> => {
  const { signals, checkRuns } = house.service.context;
  const ended = new Promise<void>((resolve) => {
    const hear = (): void => {
      if (checkRuns.latest?.finishedAt === null) return;
      signals.off('news', hear);
      resolve();
    };
    signals.on('news', hear);
  });
  await house.api.call('POST', '/checks');
  await ended;
  return (await house.api.call<{ run: CheckRun }>('GET', '/checks/latest')).body.run;
};

it('many domains are found to be what each is by itself, and a run is told as it goes', async () => {
  const { signals } = house.service.context;
  const steps: string[] = [];
  const note = (news: News): void => {
    if (news.kind === 'check-step') steps.push(`${news.domain} ${news.subject}`);
  };
  signals.on('news', note);
  const { summary, failure } = await run();
  signals.off('news', note);
  expect(failure).toBeNull();
  expect(summary?.domains).toHaveLength(MANY.length);
  expect(new Set(steps).size).toBe(MANY.length * 6);
  const judged = ({ findings }: CheckReport) => findings.map(({ evidence: _evidence, ...rest }) => rest);
  const kept = async (domain: string): Promise<CheckReport> =>
    (await house.api.call<{ report: CheckReport }>('GET', `/domains/${domain}/check`)).body.report;
  for (const domain of MANY.slice(0, 3)) {
    const inRun = await kept(domain);
    const alone = (await house.api.call<CheckReport>('POST', `/domains/${domain}/check`, {})).body;
    expect(judged(inRun)).toEqual(judged(alone));
    expect(inRun.findings.every((one) => one.evidence.length > 0)).toBe(true);
  }
  expect((await kept('many0.example')).good).toBe(true);
  // No answer is not an absence, in a thread as well.
  expect((await kept('many5.example')).findings.find((one) => one.subject === 'mx')?.verdict).toBe('unknown');
});

it('a stop in the middle of what is due begins no more of it; the rest is due at the next start', async () => {
  const { context } = house.service;
  await context.db.commit(() => void context.db.run('UPDATE check_result SET next_at = 0'));
  house.dns.silent.delete('many5.example');
  let asked = 0;
  // Looked at before each domain: three go before somebody stops.
  expect(await runDueChecks(context, () => ++asked > 3)).toBe(3);
  expect(await runDueChecks(context)).toBe(MANY.length - 3);
  expect(await runDueChecks(context)).toBe(0);
  house.dns.silent.add('many5.example');
});

it('what threads hear of a name server, the service knows', async () => {
  const health = new ServerHealth(() => performance.now(), 500);
  const checks = threadsOf(PROGRAM, health).begin();
  await checks.check(factsOf('many0.example'));
  const [state] = health.states([{ address: '127.0.0.1', port: house.dnsPort }]);
  expect(state).toMatchObject({ state: 'answers', silentMs: null });
  expect(state?.ms).not.toBeNull();
});

it('a thread that fails takes what it had, and nothing else', async () => {
  const program = join(folder, 'fails-once.mjs');
  const flag = join(folder, 'failed');
  writeFileSync(
    program,
    `import { existsSync, writeFileSync } from 'node:fs';
     if (!existsSync(${JSON.stringify(flag)})) { writeFileSync(${JSON.stringify(flag)}, ''); throw new Error('lost its way'); }
     await import(${JSON.stringify(PROGRAM)});`,
  );
  const checks = threadsOf(program).begin();
  await expect(checks.check(factsOf('many0.example'))).rejects.toThrow('lost its way');
  expect((await checks.check(factsOf('many0.example')))[0]?.subject).toBe('mx');
});

it('what can’t be judged is a fault of that domain alone', async () => {
  const checks = threadsOf(PROGRAM).begin();
  const broken = checks.check({ ...factsOf('many0.example'), keys: null as never });
  const whole = checks.check(factsOf('many1.example'));
  await expect(broken).rejects.toThrow();
  expect((await whole)[0]?.verdict).toBe('good');
});

it('threads end when they have had nothing to do for a minute, and are made anew', async () => {
  const ended = vi.spyOn(Worker.prototype, 'terminate');
  const threads = threadsOf(PROGRAM);
  vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout'] });
  await threads.begin().check(factsOf('many0.example'));
  vi.advanceTimersByTime(59_000);
  expect(ended).not.toHaveBeenCalled();
  const run = threads.begin();
  await run.check(factsOf('many0.example'));
  run.end();
  vi.advanceTimersByTime(59_000);
  expect(ended).not.toHaveBeenCalled();
  vi.advanceTimersByTime(1000);
  expect(ended).toHaveBeenCalledTimes(1);
  expect((await threads.begin().check(factsOf('many1.example')))[0]?.verdict).toBe('good');
});

it('stopped in the middle, what is under way is told so, and nothing begins after', async () => {
  const threads = threadsOf(PROGRAM);
  const checks = threads.begin();
  const silent = checks.check(factsOf('many5.example'));
  threads.stop();
  await expect(silent).rejects.toThrow('ended');
  await expect(checks.check(factsOf('many0.example'))).rejects.toThrow('any more');
});
