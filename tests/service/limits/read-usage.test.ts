import fc from 'fast-check';
import { expect, it } from 'vitest';
import { NONE } from '../../../src/core/limits/amounts.ts';
import { COUNTING, windowStart } from '../../../src/core/limits/periods.ts';
import { Usage } from '../../../src/core/limits/usage.ts';
import { PERIODS } from '../../../src/core/vocabulary.ts';
import { readUsage } from '../../../src/service/limits/read-usage.ts';
import { charge, type Payer } from '../../../src/store/ledger.ts';
import { openBare } from '../../support/context.ts';

const DAY = 24 * 3_600_000;

it('what is read out of the ledger at a start is what was counted all along, in every period, also where the clocks change', async () => {
  const payer: Payer = {
    customerId: null,
    domainId: 1,
    mailboxId: null,
    networkId: null,
    domain: 'shop.example',
    mailbox: null,
    kind: 'forwarded',
  };
  const scope = { kind: 'domain' as const, id: 1 };
  // The last hours count most; a month and more has to be summed.
  const ago = fc.oneof(fc.integer({ min: 0, max: 90_000 }), fc.integer({ min: 0, max: 2 * DAY }), fc.integer({ min: 0, max: 40 * DAY }));
  const moments = fc.constantFrom(
    '2026-10-25T00:30:00Z',
    '2026-10-25T22:59:00Z',
    '2026-10-26T00:10:00Z',
    '2026-03-29T12:00:00Z',
    '2026-12-31T23:59:59Z',
    '2026-11-01T00:00:00Z',
  );
  const { db } = (await openBare({})).context;
  await fc.assert(
    fc.asyncProperty(
      fc.array(ago, { maxLength: 40 }),
      moments,
      fc.constantFrom('UTC', 'Europe/Madrid', 'Asia/Kathmandu'),
      async (agos, moment, zone) => {
        const bare = await openBare({});
        const { db } = bare.context;
        const now = Date.parse(moment);
        const times = agos.map((one) => now - one).sort((one, other) => one - other);
        await db.commit(() => times.map((at) => charge(db, payer, { messages: 1, sends: 2, bytes: 3 }, { at, journeyId: 'j' })));
        const running = new Usage(zone);
        for (const at of times) running.add(at, { messages: 1, sends: 2, bytes: 3 });
        const read = readUsage(db, scope, zone, now);
        for (const period of PERIODS) {
          expect([period, read.used(period, now)]).toEqual([period, running.used(period, now)]);
          // And that is what was charged since then: a bucket that has begun to leave counts whole.
          const { messages } = read.used(period, now) ?? NONE;
          const counting = COUNTING[period];
          const since = windowStart(period, now, zone);
          const from = counting.kind === 'calendar' ? since : Math.floor(since / counting.grain) * counting.grain;
          expect([period, messages]).toEqual([period, times.filter((at) => at >= from).length]);
        }
      },
    ),
    { numRuns: 60 },
  );
  db.close();
});
