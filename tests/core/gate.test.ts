import { expect, it } from 'vitest';
import { BoundedMap } from '../../src/core/bounded-map.ts';
import { Gate, WeightGate } from '../../src/core/gate.ts';
import { breathe, inPieces } from '../../src/core/pieces.ts';
import { readPlain } from '../../src/core/sasl-plain.ts';
import { answerAs, piecesOfWork } from '../support/turns.ts';

it('the gate lets so many through at once and no more, in their order, whatever becomes of them', async () => {
  const { log, finish, run } = piecesOfWork(new Gate(2));
  const done = ['a', 'b', 'c', 'd'].map((name) => run(name, (gate, work) => gate.run(work)));
  await breathe();
  expect(log).toEqual(['a', 'b']);
  finish('b', new Error('no'));
  await expect(done[1]).rejects.toThrow('no');
  await breathe();
  expect(log).toEqual(['a', 'b', 'c']);
  finish('a');
  finish('c');
  await breathe();
  finish('d');
  expect(await Promise.all([done[0], done[2], done[3]])).toEqual(['a', 'c', 'd']);
  // All places are free again, and no more than there were.
  const later = ['e', 'f', 'g'].map((name) => run(name, (gate, work) => gate.run(work)));
  await breathe();
  expect(log.slice(4)).toEqual(['e', 'f']);
  for (const name of ['e', 'f']) finish(name);
  await breathe();
  finish('g');
  await Promise.all(later);
});

it('the gate by weight lets through what fits, in its order; what is heavier than all goes alone', async () => {
  const { log, finish, run } = piecesOfWork(new WeightGate(10));
  const weigh = (name: string, weight: number) => run(name, (gate, work) => gate.run(weight, work));
  const all = Promise.allSettled([
    weigh('four', 4),
    weigh('six', 6),
    weigh('one', 1),
    weigh('heavy', 50),
    weigh('ten', 10),
    weigh('last', 1),
  ]);
  await breathe();
  // Ten are under way: the one waits, although it is small, and nobody overtakes it.
  expect(log).toEqual(['four', 'six']);
  finish('six');
  await breathe();
  expect(log).toEqual(['four', 'six', 'one']);
  finish('four');
  await breathe();
  expect(log).toHaveLength(3);
  finish('one');
  await breathe();
  expect(log).toEqual(['four', 'six', 'one', 'heavy']);
  finish('heavy', new Error('no'));
  await breathe();
  expect(log).toEqual(['four', 'six', 'one', 'heavy', 'ten']);
  finish('ten');
  await breathe();
  finish('last');
  expect((await all).map((one) => one.status)).toEqual(['fulfilled', 'fulfilled', 'fulfilled', 'rejected', 'fulfilled', 'fulfilled']);
  // Exactly the most fits; one more does not.
  const again = [weigh('x', 7), weigh('y', 3), weigh('z', 1)];
  await breathe();
  expect(log.slice(6)).toEqual(['x', 'y']);
  for (const name of ['x', 'y']) finish(name);
  await breathe();
  finish('z');
  await Promise.all(again);
});

it('a large text comes in pieces, with a breath between two of them; a small one at once', async () => {
  const PIECE = 256 * 1024;
  for (const [length, sizes] of [
    [0, [0]],
    [1, [1]],
    [PIECE, [PIECE]],
    [PIECE + 1, [PIECE, 1]],
    [3 * PIECE, [PIECE, PIECE, PIECE]],
  ] as const) {
    const seen: (number | string)[] = [];
    await inPieces(
      Buffer.alloc(length),
      (piece) => seen.push(piece.length),
      async () => void seen.push('breath'),
    );
    expect(seen).toEqual(sizes.flatMap((size, at) => (at === 0 ? [size] : ['breath', size])));
  }
});

it('PLAIN says user and password in one line of base64 (RFC 4616 §2)', () => {
  for (const [said, read] of [
    ['\0ana\0secret', { user: 'ana', password: 'secret' }],
    ['ana\0ana\0secret', { user: 'ana', password: 'secret' }],
    ['\0añá\0pä', { user: 'añá', password: 'pä' }],
    ['\0ana\0', { user: 'ana', password: '' }],
    ['other\0ana\0secret', null],
    ['\0\0secret', null],
    ['ana\0secret', null],
    ['\0ana\0se\0cret', null],
    ['', null],
  ] as const)
    expect(readPlain(answerAs(said)), JSON.stringify(said)).toEqual(read);
  for (const wrong of ['?', `${answerAs('\0a\0b')}!`, `-${answerAs('\0a\0b')}`, 'AGEAYg===']) expect(readPlain(wrong), wrong).toBeNull();
});

it('a bounded map lets go of the oldest, and an entry that is renewed is the newest', () => {
  const map = new BoundedMap<string, number>(3);
  for (const [at, key] of ['a', 'b', 'c', 'b'].entries()) map.set(key, at);
  expect([...map]).toEqual([
    ['a', 0],
    ['b', 3],
    ['c', 2],
  ]);
  map.renew('a', 4);
  map.set('d', 5);
  expect([...map.keys()]).toEqual(['c', 'a', 'd']);
});
