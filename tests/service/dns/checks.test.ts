import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type {
  CheckReport,
  CheckRun,
  DomainLetter,
  FindingChange,
  HostReport,
  LetterToWrite,
  RecordSheet,
  SpfExplanation,
} from '../../../src/api/dns-schemas.ts';
import type { JournalEntry } from '../../../src/api/journey-schemas.ts';
import type { Overview } from '../../../src/api/schemas.ts';
import { runDueChecks } from '../../../src/service/dns/check-runs.ts';
import { aheadOf } from '../../support/clock.ts';
import { HOST, type House, openHouse } from '../../support/house.ts';

let house: House;
let ahead = 0;
beforeAll(async () => {
  house = await openHouse({ caching: true });
  const { context } = house.service;
  const real = context.clock;
  context.clock = aheadOf(real, () => ahead);
  context.random = () => 0.5;
  house.dns.publish({ name: HOST.name, type: 'A', value: '192.0.2.25' });
  house.dns.publish({ name: HOST.name, type: 'AAAA', value: '2001:db8:25::25' });
  await house.provide('shop.example');
  await house.provide('late.example');
});
afterAll(() => house.close());

const MINUTE = 60_000;
const get = async <T>(path: string): Promise<T> => (await house.api.call<T>('GET', path)).body;
const check = async (domain = 'shop.example', body: object = {}): Promise<CheckReport> =>
  (await house.api.call<CheckReport>('POST', `/domains/${domain}/check`, body)).body;
const verdicts = (report: CheckReport) => Object.fromEntries(report.findings.map((one) => [one.subject, one.verdict]));
const typeSheet = async (domain: string): Promise<void> => {
  house.dns.typeIn(...(await get<RecordSheet>(`/domains/${domain}/records`)).records);
};
const history = (domain: string, subject: string) =>
  get<{ rows: FindingChange[] }>(`/domains/${domain}/history`).then(({ rows }) =>
    rows.filter((one) => one.subject === subject).map((one) => one.verdict),
  );
/** Lets time pass for service and resolver, then does what is due by then. */
const later = async (ms: number): Promise<number> => {
  ahead += ms;
  return runDueChecks(house.service.context);
};

describe('a domain over time', () => {
  it('is missing, then right at the source and waiting, then good; looked at again by itself', async () => {
    expect(verdicts(await check())).toEqual({
      mx: 'missing',
      spf: 'missing',
      dkim: 'missing',
      dmarc: 'missing',
      reverse: 'missing',
      discovery: 'good',
    });
    await typeSheet('shop.example');
    const waiting = await check();
    expect(verdicts(waiting)).toEqual({
      mx: 'waiting',
      spf: 'waiting',
      dkim: 'waiting',
      dmarc: 'waiting',
      reverse: 'waiting',
      discovery: 'waiting',
    });
    const left = waiting.findings.map((one) => one.secondsLeft ?? 0);
    for (const seconds of left) expect(seconds).toBeGreaterThan(50);
    // Absence is kept for 60 seconds (RFC 2308); the next look is right after that.
    expect(await later(50_000)).toBe(1); // late.example, which nobody has looked at yet
    house.resolver.forget();
    expect(await later(12_000)).toBe(1);
    expect(await get(`/domains/shop.example/check`)).toMatchObject({ report: { good: true, readiness: 100 } });
    expect(await history('shop.example', 'spf')).toEqual(['good', 'waiting', 'missing']);
  });

  it('is looked at hourly, and what became worse is an event', async () => {
    await later(59 * MINUTE);
    house.dns.withdraw('shop.example', 'TXT', 'v=spf1');
    house.resolver.forget();
    expect(await history('shop.example', 'spf')).toEqual(['good', 'waiting', 'missing']);
    expect(await later(20 * MINUTE)).toBeGreaterThan(0);
    expect((await history('shop.example', 'spf'))[0]).toBe('missing');
    const { rows } = await get<{ rows: JournalEntry[] }>('/journal?domain=shop.example&limit=200');
    const event = rows.find((one) => one.event === 'finding-changed' && one.data['subject'] === 'spf');
    expect(event?.data).toMatchObject({ worse: true, before: 'good', verdict: 'missing' });
    expect(event?.text).toBe('SPF became missing (before: good): No SPF record is published.');
    const { attention } = await get<Overview>('/overview');
    expect(attention).toContainEqual(expect.objectContaining({ domain: 'shop.example', headline: 'No SPF record is published.' }));
  });

  it('a name server that falls silent is unknown, asked again soon, and forgotten as it was', async () => {
    await typeSheet('shop.example');
    house.resolver.forget();
    await check();
    house.dns.silent.add('shop.example');
    expect(verdicts(await check())['mx']).toBe('unknown');
    house.dns.silent.delete('shop.example');
    expect(await later(6 * MINUTE)).toBeGreaterThan(0);
    expect((await history('shop.example', 'mx')).slice(0, 3)).toEqual(['good', 'unknown', 'good']);
  });

  it('a policy that was reached is not given up because its record was lost', async () => {
    await house.provide('late.example');
    house.dns.publish({ name: '_dmarc.late.example', type: 'TXT', value: 'v=DMARC1; p=reject; rua=mailto:a@late.example' });
    await check('late.example');
    house.dns.withdraw('_dmarc.late.example');
    house.resolver.forget();
    const lost = (await check('late.example')).findings.find((one) => one.subject === 'dmarc');
    expect(lost).toMatchObject({ code: 'dmarc-none', publish: [{ value: 'v=DMARC1; p=reject; rua=mailto:postmaster@late.example' }] });
    await house.api.call('PATCH', '/domains/late.example', { dmarc: 'none' });
    const decided = (await check('late.example')).findings.find((one) => one.subject === 'dmarc');
    expect(decided?.publish[0]?.value).toContain('p=none');
  });

  it('DMARC goes on when SPF and DKIM have been good long enough', async () => {
    const sheet = () => get<RecordSheet>('/domains/shop.example/records');
    const before = (await sheet()).dmarc;
    expect(before).toMatchObject({ stage: 'none', next: { stage: 'quarantine', due: false } });
    await later(15 * 24 * 60 * MINUTE);
    const { findings } = await check();
    const [found] = findings.filter((one) => one.subject === 'dmarc');
    expect(found).toMatchObject({ code: 'dmarc-watching-long', verdict: 'weak' });
    expect(found?.headline).toContain('SPF and DKIM have been good with p=none for 15 days');
    expect((await sheet()).notes.join()).toContain('tenedor domain set shop.example --dmarc quarantine');
    await house.api.call('PATCH', '/domains/shop.example', { dmarc: 'quarantine' });
    expect((await check()).findings.map((one) => one.code)).toContain('dmarc-behind');
    await typeSheet('shop.example');
    house.resolver.forget();
    expect(await check()).toMatchObject({ good: true });
    expect((await sheet()).dmarc).toMatchObject({ stage: 'quarantine', next: { stage: 'reject', due: false } });
  });
});

it('compares with another resolver, and keeps nothing of that', async () => {
  const before = await get<{ report: CheckReport }>('/domains/shop.example/check');
  const other = await check('shop.example', { resolver: '203.0.113.53' });
  expect(other.good).toBe(true);
  expect((await get<{ report: CheckReport }>('/domains/shop.example/check')).report.checkedAt).toBe(before.report.checkedAt);
  for (const resolver of ['', 'x', '1.2.3', '192.0.2.1:99999', '[::1']) {
    const { status } = await house.api.call('POST', '/domains/shop.example/check', { resolver });
    expect(status, resolver).toBe(422);
  }
});

it('every domain at once: progress, one run at a time, the summary and what changed', async () => {
  // Each takes a key of its own, which is slow to make.
  for (let number = 0; number < 10; number += 1)
    await house.api.call('POST', '/domains', {
      name: `d${number}.example`,
      customer: 'Customer',
      role: number === 9 ? 'standby' : 'away',
    });
  const [one, two] = await Promise.all([house.api.call<CheckRun>('POST', '/checks'), house.api.call<CheckRun>('POST', '/checks')]);
  expect(one.body.id).toBe(two.body.id);
  const finished = async (): Promise<CheckRun> => (await get<{ run: CheckRun }>('/checks/latest')).run;
  await expect.poll(async () => (await finished()).finishedAt).not.toBeNull();
  const run = await finished();
  expect(run).toMatchObject({ total: 12, done: 12, failure: null });
  expect(run.summary?.domains).toHaveLength(12);
  expect(run.summary?.verdicts.missing).toBeGreaterThanOrEqual(9);
  house.dns.publish({ name: 'd1.example', type: 'MX', value: '10 mx.other.example' });
  house.resolver.forget();
  await house.api.call('POST', '/checks');
  await expect.poll(async () => (await finished()).finishedAt).not.toBeNull();
  expect((await finished()).summary?.changes).toEqual([
    {
      domain: 'd1.example',
      subject: 'mx',
      verdict: 'good',
      before: 'missing',
      headline: 'Mail goes elsewhere, as the role `away` expects.',
    },
  ]);
  // The list of whom to write to has those, and just those, to whom there is something to write.
  const listed = await house.api.list<LetterToWrite>('/letters?sort=domain&limit=500');
  for (const { domain } of run.summary?.domains ?? []) {
    const { letter } = await get<DomainLetter>(`/domains/${domain}/letter`);
    expect(listed.find((entry) => entry.domain === domain)?.about ?? null, domain).toEqual(letter === null ? null : letter.about);
  }
  expect(listed.length).toBeGreaterThan(0);
  expect(listed[0]?.customer).toBe('Customer');
  // Where nothing could be asked, it is not said that nothing is to be changed.
  house.dns.silent.add('d2.example');
  house.resolver.forget();
  await house.api.call('POST', '/domains/d2.example/check');
  expect(await get<DomainLetter>('/domains/d2.example/letter')).toMatchObject({
    letter: null,
    unknown: expect.arrayContaining(['mx', 'spf']),
  });
  house.dns.silent.delete('d2.example');
});

it('news come as server-sent events to whoever is signed in', async () => {
  const url = `${house.api.url}/api/v1/events`;
  expect((await fetch(url)).status).toBe(401);
  const stop = new AbortController();
  const response = await fetch(url, { headers: { authorization: `Bearer ${house.token}` }, signal: stop.signal });
  expect(response.headers.get('content-type')).toContain('text/event-stream');
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
  let text = '';
  const until = async (part: string): Promise<void> => {
    while (!text.includes(part)) text += (await reader?.read())?.value ?? '';
  };
  await until(': listening');
  await check();
  await until('event: check-step\ndata: {"domain":"shop.example","subject":"mx"}');
  house.dns.withdraw('shop.example', 'MX');
  await check();
  await until('event: finding-changed');
  await until('"before":"good"');
  stop.abort();
  await expect.poll(() => house.service.context.signals.listenerCount('news')).toBe(0);
  await typeSheet('shop.example');
});

it('the host has its own report and history', async () => {
  const before = await get<HostReport>('/host');
  expect(before.request).toContain('192.0.2.25 should resolve to mail.host.example');
  house.dns.withdraw(HOST.name, 'AAAA');
  const { body } = await house.api.call<HostReport>('POST', '/host/check');
  expect(body.findings.map((one) => one.code)).toContain('host-no-forward');
  const { rows } = await get<{ rows: FindingChange[] }>('/host/history');
  expect(rows.length).toBeGreaterThan(1);
  const { attention } = await get<Overview>('/overview');
  expect(attention.some((one) => one.domain === null && one.headline === `${HOST.name} does not resolve to 2001:db8:25::25.`)).toBe(true);
});

it('explains SPF for any client, and says what is wrong with the question', async () => {
  const explain = (query: string) => house.api.call<SpfExplanation[]>('GET', `/spf/shop.example${query}`);
  expect((await explain('?ip=203.0.113.1')).body).toMatchObject([{ result: 'fail', lookups: 1, clientAddress: '203.0.113.1' }]);
  expect((await explain('')).body.map((one) => one.clientAddress)).toEqual(HOST.addresses);
  for (const query of ['?ip=x', '?ip=1.2.3', '?sender=x', '?other=1']) expect((await explain(query)).status, query).toBe(422);
  expect((await house.api.call('GET', '/spf/no..name')).status).toBe(422);
});

it('what was found of other addresses of the host says nothing of those that it has now', async () => {
  const { host } = house.service.context;
  const { addresses } = host;
  house.dns.publish({ name: HOST.name, type: 'AAAA', value: '2001:db8:25::25' });
  await later(3 * 24 * 60 * MINUTE);
  await house.api.call('POST', '/host/check');
  expect((await get<HostReport>('/host')).request).toContain('already point to these addresses');
  Object.assign(host, { addresses: ['192.0.2.99'] });
  try {
    expect((await get<RecordSheet>('/domains/shop.example/records')).request).not.toContain('already');
    const report = await get<HostReport>('/host');
    expect(report.request).not.toContain('already');
    expect(report.findings.map((one) => one.code)).toContain('host-no-forward');
  } finally {
    Object.assign(host, { addresses });
  }
});
