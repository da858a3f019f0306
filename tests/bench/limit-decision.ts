import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { PROJECT } from '../../src/project.ts';
import { LimitKeeper } from '../../src/service/limits.ts';
import { addCustomer, addPlan, findCustomer, findPlan } from '../../src/store/customers.ts';
import { Database } from '../../src/store/database.ts';
import { addDomain, findDomainLimits } from '../../src/store/domains.ts';
import { charge } from '../../src/store/ledger.ts';

const DECISIONS = 200_000;
const NOW = 1_790_000_000_000;

/** A house with that many domains, some sends in the ledger of each; asks for room as RCPT does: the limits from the database, then the decision. */
async function house(domains: number): Promise<{ decide: (count: number) => void; close: () => void }> {
  const folder = join(PROJECT, `.bench-limit-${domains}`);
  rmSync(folder, { recursive: true, force: true });
  const db = Database.open(folder);
  await db.commit(() => {
    addCustomer(db, 'Bench', NOW);
    addPlan(db, { name: 'bench', hourLimit: 200, dayLimit: 1000, quotaBytes: 1, mostMailboxes: 1 }, NOW);
    const customerId = findCustomer(db, 'Bench')?.id ?? 0;
    const planId = findPlan(db, 'bench')?.id ?? 0;
    for (let number = 0; number < domains; number += 1) {
      const id = addDomain(db, { name: `d${number}.example`, customerId, planId, role: 'home', hourLimit: 200, dayLimit: 1000 }, NOW);
      for (let send = 0; send < 4; send += 1)
        charge(db, { at: NOW - send * 1_200_000, domainId: id, mailboxId: null, journeyId: 'j', sends: 1 });
    }
  });
  const keeper = new LimitKeeper(db, { now: () => NOW, steady: () => NOW });
  const ask = (number: number): void => {
    const domain = findDomainLimits(db, `d${number}.example`);
    if (!domain) throw new Error('no domain');
    const { reservation } = keeper.reserve(domain.id, domain, 1);
    if (!reservation) throw new Error('no room');
    keeper.release(reservation);
  };
  for (let number = 0; number < domains; number += 1) ask(number);
  let state = 1;
  return {
    decide: (count) => {
      for (let at = 0; at < count; at += 1) {
        state = (Math.imul(state, 1_103_515_245) + 12_345) & 0x7fffffff;
        ask(state % domains);
      }
    },
    close: () => {
      db.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** Nanoseconds a decision with many domains and with few, measured in turns. */
export async function decisionTimes(many: number, few: number, rounds: number): Promise<{ many: number[]; few: number[] }> {
  const [large, small] = [await house(many), await house(few)];
  const time = (decide: (count: number) => void): number => {
    const begun = performance.now();
    decide(DECISIONS);
    return ((performance.now() - begun) * 1e6) / DECISIONS;
  };
  const times = { many: [] as number[], few: [] as number[] };
  time(large.decide);
  time(small.decide);
  for (let round = 0; round < rounds; round += 1) {
    times.many.push(time(large.decide));
    times.few.push(time(small.decide));
  }
  large.close();
  small.close();
  return times;
}
