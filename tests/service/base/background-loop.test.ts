import { afterEach, expect, it, vi } from 'vitest';
import { BackgroundLoop } from '../../../src/service/base/background-loop.ts';

afterEach(() => vi.useRealTimers());

/** A loop whose turns end when they are told to, and what was logged. */
function loopOf(next: () => number | null | undefined = () => undefined) {
  const turns: { isWoken: boolean; end: (fault?: Error) => void }[] = [];
  const faults: string[] = [];
  const loop = new BackgroundLoop({
    log: { error: (_data, text) => faults.push(text) },
    failed: 'the work failed',
    everyMs: 1000,
    turn: (isWoken) =>
      new Promise<number | null>((resolve, reject) => {
        turns.push({ isWoken, end: (fault) => (fault ? reject(fault) : resolve(next() as number | null)) });
      }),
  });
  const end = async (fault?: Error): Promise<void> => {
    turns.at(-1)?.end(fault);
    await vi.advanceTimersByTimeAsync(0);
  };
  return { loop, turns, faults, end };
}

it('turns come one after the other: as often as usual, as the last one said, or when somebody asks', async () => {
  vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout', 'setImmediate', 'clearImmediate', 'performance'] });
  let said: number | null | undefined;
  const { loop, turns, end } = loopOf(() => said);
  loop.start(50);
  await vi.advanceTimersByTimeAsync(49);
  expect(turns).toHaveLength(0);
  await vi.advanceTimersByTimeAsync(1);
  expect(turns.map((one) => one.isWoken)).toEqual([false]);
  // While one is under way, no other begins; what is asked for comes once, right behind it.
  loop.wake();
  loop.wake();
  await vi.advanceTimersByTimeAsync(5000);
  expect(turns).toHaveLength(1);
  await end();
  expect(turns.map((one) => one.isWoken)).toEqual([false, true]);
  await end();
  await vi.advanceTimersByTimeAsync(999);
  expect(turns).toHaveLength(2);
  await vi.advanceTimersByTimeAsync(1);
  expect(turns).toHaveLength(3);
  // As the turn says: soon, or not before somebody asks.
  said = 10;
  await end();
  await vi.advanceTimersByTimeAsync(10);
  expect(turns).toHaveLength(4);
  said = null;
  await end();
  await vi.advanceTimersByTimeAsync(100_000);
  expect(turns).toHaveLength(4);
  // The earlier of two wishes counts, whichever came first.
  loop.wakeWithin(500);
  loop.wakeWithin(20);
  loop.wakeWithin(300);
  await vi.advanceTimersByTimeAsync(20);
  expect(turns).toHaveLength(5);
  loop.wakeWithin(30);
  await end();
  await vi.advanceTimersByTimeAsync(30);
  expect(turns).toHaveLength(6);
});

it('a turn that fails is told, and the next one comes; after a stop none does, and the last one is waited for', async () => {
  vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout', 'setImmediate', 'clearImmediate', 'performance'] });
  const { loop, turns, faults, end } = loopOf();
  loop.start();
  await vi.advanceTimersByTimeAsync(0);
  await end(new Error('no'));
  expect(faults).toEqual(['the work failed']);
  await vi.advanceTimersByTimeAsync(1000);
  expect(turns).toHaveLength(2);
  let isStopped = false;
  const stopped = loop.stop().then(() => {
    isStopped = true;
  });
  loop.wake();
  loop.wakeWithin(1);
  await vi.advanceTimersByTimeAsync(5000);
  expect([turns.length, isStopped]).toEqual([2, false]);
  await end(new Error('while it stops'));
  await stopped;
  await vi.advanceTimersByTimeAsync(5000);
  // What breaks because it is stopped is no fault.
  expect([turns.length, faults.length]).toEqual([2, 1]);
});
