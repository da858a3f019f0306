import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { expect, it } from 'vitest';
import type { SendMail } from '../../../src/service/base/ports.ts';
import { admitWaiting } from '../../../src/service/delivery/admit.ts';
import { Deliverer } from '../../../src/service/delivery/deliver.ts';
import { actOnQueue, type QueueAct } from '../../../src/service/delivery/queue.ts';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { removeMailbox } from '../../../src/service/directory/removed-mailboxes.ts';
import { setLimits } from '../../../src/service/limits/edit-limits.ts';
import { pause, resume } from '../../../src/service/limits/set-stops.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { holdMessage } from '../../support/held.ts';
import { lookupIn } from '../../support/lookup.ts';

const MINUTE = 60_000;
const LIMIT = 4;
const DOMAINS = ['a', 'b', 'c'];
const LOOKUP = lookupIn(
  DOMAINS.flatMap((name, at) => [
    [`${name}.example`, 'MX', `10 mx.${name}.example`],
    [`mx.${name}.example`, 'A', `203.0.113.${at + 1}`],
  ]) as Parameters<typeof lookupIn>[0],
);

/** What somebody, or the machine, does. */
type Act =
  | { kind: 'submit'; from: 'ana' | 'leo'; domain: string; count: number }
  | { kind: 'queue'; act: QueueAct; domain: string }
  | { kind: 'pause' | 'resume'; who: string }
  | { kind: 'remove'; who: 'leo' }
  | { kind: 'answers'; code: number }
  | { kind: 'pass'; minutes: number }
  | { kind: 'step'; minutes: number }
  | { kind: 'disk'; full: boolean }
  | { kind: 'restart' }
  | { kind: 'admit' };

const act: fc.Arbitrary<Act> = fc.oneof(
  {
    weight: 12,
    arbitrary: fc.record({
      kind: fc.constant('submit' as const),
      from: fc.constantFrom('ana' as const, 'leo' as const),
      domain: fc.constantFrom(...DOMAINS),
      count: fc.integer({ min: 1, max: 4 }),
    }),
  },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('queue' as const),
      act: fc.constantFrom<QueueAct>('retry', 'hold', 'release', 'drop'),
      domain: fc.constantFrom(...DOMAINS),
    }),
  },
  { weight: 2, arbitrary: fc.record({ kind: fc.constantFrom('pause' as const, 'resume' as const), who: fc.constant('ana@shop.example') }) },
  { weight: 1, arbitrary: fc.constant<Act>({ kind: 'remove', who: 'leo' }) },
  { weight: 4, arbitrary: fc.record({ kind: fc.constant('answers' as const), code: fc.constantFrom(250, 250, 451, 550) }) },
  { weight: 4, arbitrary: fc.record({ kind: fc.constant('pass' as const), minutes: fc.constantFrom(1, 10, 10, 70, 1500) }) },
  { weight: 2, arbitrary: fc.record({ kind: fc.constant('step' as const), minutes: fc.constantFrom(-120, -5, 5, 120, 2880) }) },
  { weight: 2, arbitrary: fc.record({ kind: fc.constant('disk' as const), full: fc.boolean() }) },
  { weight: 2, arbitrary: fc.constant<Act>({ kind: 'restart' }) },
  { weight: 3, arbitrary: fc.constant<Act>({ kind: 'admit' }) },
);

/** The service's queue beside a plain account of what must be true of it. */
class World {
  private deliverer: Deliverer;
  private code = 250;
  private isFull = false;
  /** Every recipient that was accepted, and how often a server took it. */
  private readonly accepted = new Map<string, number>();
  private serial = 0;
  /** Whether the service ended since: a message that was under way may be sent twice then (RFC 1047), and only then. */
  private restarts = 0;

  private constructor(
    private bare: Bare,
    private readonly folder: string,
  ) {
    this.deliverer = this.begin();
  }

  static async open(folder: string): Promise<World> {
    const bare = await openBare({ folder, lookup: LOOKUP });
    await addMailbox(bare.context, { address: 'leo@shop.example', password: null, quotaBytes: null });
    await setLimits(bare.context, 'shop.example', {
      limits: [{ period: 'hour', quantity: 'sends', amount: LIMIT }],
      whenFull: 'hold',
      holdHours: 48,
    });
    return new World(bare, folder);
  }

  private readonly send: SendMail = async (_host, { recipients }) => {
    const { code } = this;
    for (const { address } of recipients) if (code < 300) this.accepted.set(address, (this.accepted.get(address) ?? 0) + 1);
    return {
      kind: 'done',
      tls: null,
      dsn: false,
      outcomes: recipients.map(({ address }) => ({
        recipient: address,
        kind: code < 300 ? ('taken' as const) : code < 500 ? ('later' as const) : ('never' as const),
        reply: { code, text: `${Math.floor(code / 100)}.0.0 so` },
      })),
    };
  };

  private begin(): Deliverer {
    const { context } = this.bare;
    context.send = this.send;
    const { db } = context;
    const commit = db.commit.bind(db);
    db.commit = (work, patience) =>
      this.isFull ? Promise.reject(Object.assign(new Error('full'), { code: 'SQLITE_FULL' })) : commit(work, patience);
    const deliverer = new Deliverer(context, () => 0.5, { hangsAfterMs: 60_000, writeAgainMs: 5 });
    deliverer.wake();
    return deliverer;
  }

  async do(one: Act): Promise<void> {
    const { context } = this.bare;
    // What is refused, by a rule or by the disk, is no fault: nothing may have changed then.
    const may = async (work: Promise<unknown>): Promise<void> => {
      await work.catch((error: unknown) => {
        if (!/SQLITE_FULL|Problem|removed/.test(`${(error as { code?: string }).code} ${(error as Error).constructor.name} ${error}`))
          throw error;
      });
    };
    if (one.kind === 'submit') await may(this.submit(one.from, one.domain, one.count));
    else if (one.kind === 'queue') await may(actOnQueue(context, one.act, { destination: `${one.domain}.example` }, null, 'model'));
    else if (one.kind === 'pause') await may(pause(context, one.who, { sending: true, receiving: false, text: null }));
    else if (one.kind === 'resume') await may(resume(context, one.who, 'pause'));
    else if (one.kind === 'remove') {
      await may(removeMailbox(context, 'leo@shop.example'));
      await may(addMailbox(context, { address: 'leo@shop.example', password: null, quotaBytes: null }));
    } else if (one.kind === 'answers') this.code = one.code;
    else if (one.kind === 'pass') this.bare.pass(one.minutes * MINUTE);
    else if (one.kind === 'step') this.bare.clock.wall += one.minutes * MINUTE;
    else if (one.kind === 'disk') this.isFull = one.full;
    else if (one.kind === 'admit') await may(admitWaiting(context));
    else await this.restart();
    context.signals.emit('mail', null);
    await this.settle();
    this.check();
  }

  private async submit(from: string, domain: string, count: number): Promise<void> {
    const to = Array.from({ length: count }, () => {
      this.serial += 1;
      return `r${this.serial}@${domain}.example`;
    });
    const address = `${from}@shop.example`;
    const id = (await this.bare.submit(address, to)) ?? (await holdMessage(this.bare, address, to));
    if (id !== null) for (const one of to) this.accepted.set(one, this.accepted.get(one) ?? 0);
  }

  private async restart(): Promise<void> {
    this.isFull = false;
    await this.settle();
    await this.deliverer.stop();
    const { clock } = this.bare;
    this.bare.close();
    this.bare = await openBare({ folder: this.folder, fresh: false, lookup: LOOKUP, start: clock.wall });
    // The service's time never begins before what it has seen.
    this.bare.clock.steady = clock.steady;
    this.restarts += 1;
    this.deliverer = this.begin();
  }

  /** Until nothing moves: nothing is under way, and nothing due can be tried. */
  private async settle(): Promise<void> {
    const { context } = this.bare;
    for (let quiet = 0; quiet < 3; ) {
      await new Promise((resolve) => setImmediate(resolve));
      quiet = context.handingOver.size === 0 || this.isFull ? quiet + 1 : 0;
      if (this.isFull) await new Promise((resolve) => setTimeout(resolve, 1));
    }
  }

  check(): void {
    const { db } = this.bare.context;
    const rows = db.all<{ address: string; state: string; due: number | null; held: string | null; charged: number }>(
      `SELECT r.address, r.state, r.next_attempt_at AS due, r.held, r.charged FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE j.kind = 'submitted'`,
    );
    // Accepted ⇒ somewhere, once.
    expect(rows.map((one) => one.address).sort()).toEqual([...this.accepted.keys()].sort());
    for (const { address, state, due, held, charged } of rows) {
      const taken = this.accepted.get(address) ?? 0;
      // What has ended waits for nothing; what has not waits for something.
      expect([address, due === null]).toEqual([address, state === 'relayed' || state === 'failed']);
      // Left ⇒ charged, and taken once; while an answer can't be written down, the row does not know of it yet.
      if (taken > 0) expect([address, charged]).toEqual([address, 1]);
      expect(taken).toBeLessThanOrEqual(1 + this.restarts);
      if (state === 'relayed') expect(taken).toBeGreaterThan(0);
      if (held === 'limit') expect([address, charged]).toEqual([address, 0]);
    }
    // Charged ⇔ in the ledger.
    const ledger = db.one<{ sends: number }>('SELECT coalesce(sum(sends), 0) AS sends FROM ledger')?.sends;
    expect(ledger).toBe(rows.filter((one) => one.charged === 1).length);
    // No hour holds more than the limit.
    const charges = db.all<{ at: number; sends: number }>('SELECT at, sends FROM ledger ORDER BY at');
    for (const { at } of charges)
      expect(
        charges.filter((one) => one.at > at - 60 * MINUTE && one.at <= at).reduce((sum, one) => sum + one.sends, 0),
      ).toBeLessThanOrEqual(LIMIT);
  }

  async close(): Promise<void> {
    this.isFull = false;
    await this.settle();
    await this.deliverer.stop();
    this.bare.close();
  }
}

it('hold, release, drop, admit, pause, remove, restart, a full disk and steps of the clock, in whatever order, keep the books', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(act, { minLength: 50, maxLength: 80 }), async (acts) => {
      const folder = mkdtempSync(join(tmpdir(), 'tenedor-model-'));
      const world = await World.open(folder);
      try {
        for (const one of acts) await world.do(one);
      } finally {
        await world.close();
        rmSync(folder, { recursive: true, force: true });
      }
    }),
    { numRuns: 6, endOnFailure: true },
  );
});
