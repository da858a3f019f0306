import type { Clock } from '../../src/service/base/ports.ts';

/** A clock that is ahead of a real one, on the wall and for everything that waits. */
export const aheadOf = (real: Clock, ms: () => number): Clock => ({
  now: () => real.now() + ms(),
  steady: () => real.steady() + ms(),
  ahead: 0,
  stepped: 0,
  realign: () => {},
});
