import type { ServiceContext } from '../../src/service/app/context.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { keepCheck } from '../../src/store/checks.ts';
import { findCustomer, findPlan } from '../../src/store/customers.ts';
import { addDomain } from '../../src/store/domains.ts';
import { addMailbox } from '../../src/store/mailboxes.ts';
import { startBench, submitAll } from './service.ts';

const MAILBOXES = 10;
const AT_ONCE = 100;
const MESSAGES = 2000;
const ROUNDS = 20;
/** Before those that count: the service compiles its code, and looks at what it has to look at after a start. */
const WARM = 10;

/** What an administrator has open: the overview, and lists in orders of all kinds. */
const CALLS = [
  '/overview',
  ...['', '?sort=customer', '?sort=readiness', '?sort=mailboxes', '?sort=storage', '?sort=name&reverse=true'].map(
    (query) => `/domains${query}`,
  ),
  ...[
    '/domains/d7.example',
    '/domains/d7.example/mailboxes',
    '/domains/d7.example/aliases',
    '/customers',
    '/stops',
    '/outlets',
    '/queue',
    '/journeys',
    '/journal',
  ],
];

/** Domains of ten mailboxes each, checked. */
export async function fill({ db }: ServiceContext, domains: number): Promise<void> {
  const customerId = findCustomer(db, 'Bench')?.id ?? 0;
  const planId = findPlan(db, 'open')?.id ?? 0;
  const add = (number: number): void => {
    const domainId = addDomain(db, { name: `d${number}.example`, customerId, planId, role: 'home' }, 0);
    for (let at = 0; at < MAILBOXES; at += 1) addMailbox(db, { domainId, local: `m${at}`, passwordHash: '', quotaBytes: 1 }, 0);
    keepCheck(db, domainId, { checkedAt: 0, readiness: number % 100, findings: [] }, Number.MAX_SAFE_INTEGER);
  };
  for (let from = 0; from < domains; from += AT_ONCE)
    await db.commit(() => {
      for (let number = from; number < from + AT_ONCE; number += 1) add(number);
    });
}

/** Milliseconds within which nineteen of twenty calls are answered, one after the other, with so many domains of ten mailboxes each. */
export async function listTime(domains: number): Promise<number> {
  const dns = new StandInDns();
  const bench = await startBench(await dns.listen(), '', (context) => fill(context, domains));
  await submitAll(bench.talks, MESSAGES, 'li@shop.example');
  const times: number[] = [];
  for (let round = 0; round < WARM + ROUNDS; round += 1)
    for (const path of CALLS) {
      const begun = performance.now();
      await bench.call('GET', path);
      if (round >= WARM) times.push(performance.now() - begun);
    }
  await bench.stop();
  dns.close();
  return times.sort((one, other) => one - other)[Math.floor(times.length * 0.95)] ?? 0;
}
