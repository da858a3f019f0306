import type { ServiceContext } from '../service/app/context.ts';
import { findDomain } from '../store/domains.ts';
import { HOUR, PEOPLE, pastArrival, pastSubmission } from './past-journeys.ts';
import { newsletter, seedTroubles, topUp } from './seed-troubles.ts';
import { DOMAINS, NEWSLETTER, PROVIDERS } from './world.ts';

/** Six weeks: long enough to know what is usual. */
const DAYS = 43;
/** Sends by hour of the day, UTC: an office. */
const SHAPE = [0, 0, 0, 0, 0, 0.2, 0.5, 1, 2, 3, 3, 2.5, 1.5, 1.5, 2.5, 2.5, 2, 1.5, 1, 0.7, 0.5, 0.4, 0.2, 0.1];
const WHOLE = SHAPE.reduce((sum, one) => sum + one, 0);

const AT_ONCE = 100;

/** Some days of sending and receiving, up to now: ledger and journal agree as if it had happened. */
export async function seedHistory(context: ServiceContext, random: () => number): Promise<void> {
  const { db, clock } = context;
  const now = clock.now();
  const pick = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)] as T;
  // Written in the order of time, as it would have happened.
  const happenings: { at: number; happen: () => void }[] = [];
  const plan = (at: number, happen: () => void): void => {
    happenings.push({ at, happen });
  };
  for (const one of DOMAINS) {
    if (one.role !== 'home') continue;
    // The newsletter has its last hour to itself.
    const last = one.domain === NEWSLETTER.domain ? 2 : 1;
    for (let hour = DAYS * 24; hour >= last; hour -= 1) {
      const begin = now - hour * HOUR;
      const share = SHAPE[new Date(begin).getUTCHours()] ?? 0;
      const expected = (one.daily * (one.domain === 'tallernuno.example' && hour <= 24 ? 1.1 : 1) * share) / WHOLE;
      let left = Math.floor(expected + random());
      while (left > 0) {
        const sends = Math.min(left, random() < 0.85 ? 1 : 1 + Math.floor(random() * 3));
        left -= sends;
        const to = Array.from({ length: sends }, () => `${pick(PEOPLE)}@${pick(PROVIDERS).domain}`);
        const at = begin + Math.floor(random() * HOUR);
        const [mailbox, subject] = [pick(one.mailboxes), pick(one.subjects)];
        plan(at, () => pastSubmission(context, one, at, mailbox, [...new Set(to)], subject));
      }
      if (random() >= expected / 3) continue;
      const at = begin + Math.floor(random() * HOUR);
      const [from, subject] = [`${pick(PEOPLE)}@${pick(PROVIDERS).domain}`, `Re: ${pick(one.subjects)}`];
      plan(at, () => pastArrival(context, one, at, from, subject));
    }
  }
  happenings.sort((one, other) => one.at - other.at);
  // A little at a time: somebody is watching already.
  for (let begin = 0; begin < happenings.length; begin += AT_ONCE)
    await db.commit(() => {
      for (const { happen } of happenings.slice(begin, begin + AT_ONCE)) happen();
    });
  await db.commit(() => {
    topUp(context, now, 'tallernuno.example', 0.92, pick);
    newsletter(context, now);
  });
  // The windows were first looked at before there was any history.
  context.limits.readAnew();
  for (const one of DOMAINS) context.limits.review({ kind: 'domain', id: findDomain(db, one.domain)?.id ?? 0 });
  await seedTroubles(context);
}
