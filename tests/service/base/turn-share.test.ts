import { expect, it } from 'vitest';
import { TurnShare } from '../../../src/service/base/turn-share.ts';

it('takes more while there is time, less when it gets slow, and never fewer than the least', () => {
  let now = 0;
  let each = 0.01;
  const share = new TurnShare(400, 50, () => now);
  const turn = (left: number): [number, boolean] => {
    let asked = 0;
    const isMore = share.do((most) => {
      asked = most;
      const done = Math.min(most, left);
      now += done * each;
      return done;
    });
    return [asked, isMore];
  };
  expect([turn(9999), turn(9999), turn(9999), turn(9999), turn(9999)]).toEqual([50, 100, 200, 400, 400].map((size) => [size, true]));
  // What is the end of it says nothing of how long a full share takes.
  expect(turn(3)).toEqual([400, false]);
  each = 0.1;
  expect([turn(9999), turn(9999)]).toEqual([
    [400, true],
    [150, true],
  ]);
  each = 10;
  expect([turn(9999), turn(9999), turn(0)]).toEqual([
    [150, true],
    [50, true],
    [50, false],
  ]);
  each = 0;
  expect([turn(9999), turn(9999)]).toEqual([
    [50, true],
    [100, true],
  ]);
});
