import { decideSends } from '../../src/core/limits/decide.ts';
import { SendWindow } from '../../src/core/limits/window.ts';

const DECISIONS = 400_000;

/** Decisions a second over that many domains, asked in random order, each with some sends in its window. */
export function decisionsPerSecond(domains: number): number {
  const windows = new Map<number, SendWindow>();
  const now = 100_000_000;
  for (let id = 0; id < domains; id += 1) {
    const window = new SendWindow();
    for (let send = 0; send < 8; send += 1) window.add(now - 7_200_000 + send * 1_000_000, 1);
    windows.set(id, window);
  }
  let state = 1;
  const next = (): number => {
    state = (Math.imul(state, 1_103_515_245) + 12_345) & 0x7fffffff;
    return state % domains;
  };
  const limits = { hour: 200, day: 1000 };
  const run = (count: number): void => {
    for (let at = 0; at < count; at += 1) {
      const window = windows.get(next());
      if (!window || decideSends(window, limits, 1, now).kind !== 'room') throw new Error('no room');
    }
  };
  run(DECISIONS / 4);
  const begun = performance.now();
  run(DECISIONS);
  return DECISIONS / ((performance.now() - begun) / 1000);
}
