import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { CAN_BE_SKIPPED, isBehind, leadingStep, type MoveFacts, movePath, type Pass, whatIsBefore } from '../../src/core/moves/path.ts';
import { MOVE_STEPS, type MoveState, type MoveStep, TRANSFER_STATES, VERDICTS } from '../../src/core/vocabulary.ts';

const HOUR = 3_600_000;
const NOW = 1_800_000_000_000;
const pass = (state: Pass['state'], more: Partial<Pass> = {}): Pass => ({
  ...{ id: 7, state, outcome: `It is ${state}.`, done: 3, total: 9, leftOut: 0, faults: 0 },
  ...more,
});
const mx = (verdict: 'good' | 'waiting' | 'wrong' | 'unknown', more: object = {}): NonNullable<MoveFacts['mx']> => ({
  ...{
    at: NOW,
    ttl: 300,
    heldUntil: null,
    verdict,
    headline: `MX is ${verdict}.`,
    expected: ['10 mail.host.example'],
    seen: ['10 mx.old.example'],
  },
  ...{ waitsUntil: null },
  ...more,
});
const facts = (more: Partial<MoveFacts> = {}): MoveFacts => ({
  ...{ accounts: 2, server: 'mx.old.example', missing: ['ana@shop.example'], passes: {}, mx: null, hereSince: null },
  ...{ sheets: { of: 2, sent: 0, failed: [], waiting: 0 }, skipped: new Set<MoveStep>(), quietHours: 48, now: NOW },
  ...more,
});
const states = (found: MoveFacts): Record<MoveStep, MoveState> =>
  Object.fromEntries(movePath(found).map(({ step, state }) => [step, state])) as Record<MoveStep, MoveState>;
const said = (found: MoveFacts, step: MoveStep): string => {
  const one = movePath(found).find((other) => other.step === step);
  return [one?.said, one?.advice].join(' ');
};

const PREPARED = {
  missing: [],
  passes: { 'sign-in': pass('done'), 'first-pass': pass('done') },
  sheets: { of: 2, sent: 2, failed: [], waiting: 0 },
};

describe('the path of a move', () => {
  it('begins with the sign-in, and beside it what is done in DNS; the rest comes later', () => {
    expect(states(facts())).toEqual({
      ...{
        'sign-in': 'next',
        mailboxes: 'later',
        'first-pass': 'later',
        'short-ttl': 'next',
        sheets: 'later',
        mx: 'later',
        'last-pass': 'later',
      },
    });
    expect(leadingStep(movePath(facts()))?.step).toBe('sign-in');
    expect(whatIsBefore(movePath(facts()), 'mx')?.step).toBe('first-pass');
  });

  it.each([
    ['the MX records may be kept for a day', { ttl: 86_400 }, 'next', 'kept for 24 hours'],
    ['they are short, and caches hold what they read before', { heldUntil: NOW + 2 * HOUR }, 'waiting', '2 hours more'],
    ['that time has passed', { heldUntil: NOW }, 'done', 'kept for 5 minutes'],
    ['nobody can see them', { ttl: null }, 'next', 'cannot be looked up'],
  ] as const)('short TTL: %s', (_case, look, state, words) => {
    const found = facts({ ...PREPARED, mx: mx('wrong', look) });
    expect(states(found)['short-ttl']).toBe(state);
    expect(said(found, 'short-ttl')).toContain(words);
  });

  it('the change of the MX records waits for what comes before it, and names the records', () => {
    const ready = facts({ ...PREPARED, mx: mx('wrong') });
    expect(states(ready)).toMatchObject({ mx: 'next', 'last-pass': 'later' });
    expect(said(ready, 'mx')).toContain('replace “MX 10 mx.old.example” by “MX 10 mail.host.example”');
    expect(states({ ...ready, sheets: { of: 2, sent: 2, failed: [], waiting: 1 } }).mx).toBe('later');
    expect(states({ ...ready, mx: mx('waiting'), hereSince: NOW })).toMatchObject({ mx: 'waiting', 'last-pass': 'later' });
    expect(states({ ...ready, mx: mx('good'), hereSince: NOW })).toMatchObject({ mx: 'done', 'last-pass': 'next' });
    // No answer is not an absence: nothing is taken back for it.
    expect(states({ ...ready, mx: mx('unknown'), hereSince: NOW }).mx).toBe('waiting');
  });

  it.each([
    ['under-way', 0, 'under-way'],
    ['partly', 0, 'done'],
    ['partly', 1, 'wrong'],
    ['failed', 1, 'wrong'],
    ['stopped', 0, 'wrong'],
  ] as const)('a first pass that is %s, with %i accounts at fault, is %s', (state, faults, expected) => {
    const found = facts({ ...PREPARED, passes: { ...PREPARED.passes, 'first-pass': pass(state, { faults, leftOut: 1 }) } });
    expect(states(found)['first-pass']).toBe(expected);
  });

  it('sheets that did not arrive are told, and can be left out', () => {
    const failed = facts({
      ...PREPARED,
      sheets: { of: 2, sent: 2, failed: [{ address: 'ana@shop.example', why: '550 5.1.1 Nobody' }], waiting: 0 },
    });
    expect(states(failed).sheets).toBe('wrong');
    expect(said(failed, 'sheets')).toContain('ana@shop.example: 550 5.1.1 Nobody');
    expect(states({ ...failed, skipped: new Set<MoveStep>(['sheets']) }).sheets).toBe('skipped');
  });

  const someFacts: fc.Arbitrary<MoveFacts> = fc.record({
    accounts: fc.integer({ min: 1, max: 5 }),
    server: fc.constant('mx.old.example'),
    missing: fc.array(fc.constant('ana@shop.example'), { maxLength: 2 }),
    passes: fc.dictionary(
      fc.constantFrom<MoveStep>('sign-in', 'first-pass', 'last-pass'),
      fc.record({
        ...{ id: fc.nat(), state: fc.constantFrom(...TRANSFER_STATES), outcome: fc.string(), done: fc.nat(), total: fc.nat() },
        ...{ leftOut: fc.nat(2), faults: fc.nat(2) },
      }),
    ) as fc.Arbitrary<MoveFacts['passes']>,
    mx: fc.option(
      fc.record({
        ...{ at: fc.nat(), ttl: fc.option(fc.nat()), heldUntil: fc.option(fc.integer({ min: NOW - HOUR, max: NOW + HOUR })) },
        ...{ verdict: fc.constantFrom(...VERDICTS), headline: fc.string(), expected: fc.array(fc.string()), seen: fc.array(fc.string()) },
        waitsUntil: fc.option(fc.nat()),
      }),
    ),
    hereSince: fc.option(fc.nat()),
    sheets: fc.record({ of: fc.nat(3), sent: fc.nat(3), failed: fc.constant([]), waiting: fc.nat(2) }),
    skipped: fc.uniqueArray(fc.constantFrom(...CAN_BE_SKIPPED)).map((list) => new Set(list)),
    quietHours: fc.constant(48),
    now: fc.constant(NOW),
  });

  it('whatever is known: all steps in their order, none begun before what it needs, and an open one leads as long as one is open', () => {
    fc.assert(
      fc.property(someFacts, (found) => {
        const path = movePath(found);
        expect(path.map(({ step }) => step)).toEqual(MOVE_STEPS);
        for (const one of path) {
          if (one.state === 'next') expect(whatIsBefore(path, one.step)).toBeNull();
          expect(one.said).not.toContain('undefined');
        }
        expect(leadingStep(path) === null).toBe(path.every(isBehind));
      }),
    );
  });
});
