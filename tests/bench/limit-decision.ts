import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { amountsOf } from '../../src/core/limits/amounts.ts';
import { PROJECT } from '../../src/project.ts';
import { LimitKeeper } from '../../src/service/limits/limit-keeper.ts';
import { addCustomer, addPlan } from '../../src/store/customers.ts';
import { Database } from '../../src/store/database.ts';
import { addDomain } from '../../src/store/domains.ts';
import { charge, type Payer } from '../../src/store/ledger.ts';
import { setLimitValue } from '../../src/store/limits.ts';
import { addMailbox } from '../../src/store/mailboxes.ts';
import { PLAN } from '../support/context.ts';

const DECISIONS = 100_000;
const NOW = 1_790_000_000_000;
const PER_CUSTOMER = 5;

interface House {
  /** So many decisions, each about a domain drawn at random from all. */
  decide: (count: number) => void;
  close: () => void;
}

/**
 * A house with that many domains and some sends in the ledger of each; asks for room as RCPT does: who pays is known since MAIL,
 * so it is the decision over all of its scopes, and giving back.
 */
async function house(domains: number): Promise<House> {
  const folder = join(PROJECT, `.bench-limit-${domains}`);
  rmSync(folder, { recursive: true, force: true });
  const db = Database.open(folder);
  await db.commit(() => {
    const planId = addPlan(db, { ...PLAN, name: 'bench' }, NOW);
    for (const [owner, period, amount] of [
      ['plan', 'hour', 200],
      ['plan', 'day', 1000],
      ['plan-mailbox', 'hour', 100],
    ] as const)
      setLimitValue(db, owner, planId, { period, quantity: 'sends', amount });
    setLimitValue(db, 'server', 0, { period: 'day', quantity: 'sends', amount: 10_000_000 });
    let customerId = 0;
    for (let number = 0; number < domains; number += 1) {
      if (number % PER_CUSTOMER === 0) customerId = addCustomer(db, `Customer ${number}`, NOW);
      const domain = `d${number}.example`;
      const domainId = addDomain(db, { name: domain, customerId, planId, role: 'home' }, NOW);
      const mailboxId = addMailbox(db, { domainId, local: 'ana', passwordHash: '', quotaBytes: 1 }, NOW);
      if (domainId !== number + 1 || mailboxId !== number + 1) throw new Error('rows are not numbered from 1');
      const payer: Payer = { customerId, domainId, mailboxId, networkId: null, domain, mailbox: `ana@${domain}`, kind: 'submitted' };
      for (let send = 3; send >= 0; send -= 1)
        charge(db, payer, amountsOf({ sends: 1, bytes: 4000 }), { at: NOW - send * 1_200_000, journeyId: 'j' });
    }
  });
  const keeper = new LimitKeeper(db, { now: () => NOW, steady: () => NOW }, 'UTC');
  const ask = (number: number): void => {
    const customerId = Math.floor(number / PER_CUSTOMER) + 1;
    const answer = keeper.reserve(
      { customerId, domainId: number + 1, mailboxId: number + 1, networkId: null },
      {
        messages: 1,
        sends: 1,
        bytes: 4000,
      },
    );
    if (answer.kind === 'full') throw new Error('no room');
    keeper.release(answer);
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
