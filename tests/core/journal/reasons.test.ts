import { expect, it } from 'vitest';
import { groupFailures, reasonOf } from '../../../src/core/journal/reasons.ts';

it('replies that differ in an address, a number or an id are one reason', () => {
  for (const [reply, reason] of [
    ['550 5.1.1 <li@out.example> nobody here', '550 5.1.1 … nobody here'],
    ['550 5.1.1 bo@out.example: nobody here', '550 5.1.1 …: nobody here'],
    ['550-5.7.26 See https://help.out.example/x?id=1 - 4fb8c1a2d3', '550-5.7.26 See … - …'],
    ['554 5.7.1 [192.0.2.25] is on a list', '554 5.7.1 […] is on a list'],
    ['451 4.3.0  try\tlater', '451 4.3.0 try later'],
    ['Connection refused by mx.out.example', 'Connection refused by mx.out.example'],
    ['', ''],
    [`550 ${'x'.repeat(500)}`, `550 ${'x'.repeat(156)}`],
  ] as const)
    expect(reasonOf(reply), reply).toBe(reason);
});

it('reasons are counted, the most frequent first, with whose servers said it', () => {
  const groups = groupFailures([
    { destination: 'out.example', reply: '550 5.1.1 <a@out.example> nobody', sends: 2, lastAt: 5 },
    { destination: 'far.example', reply: '550 5.1.1 <b@far.example> nobody', sends: 3, lastAt: 9 },
    { destination: 'far.example', reply: '550 5.1.1 <c@far.example> nobody', sends: 1, lastAt: 7 },
    { destination: 'mute.example', reply: null, sends: 1, lastAt: 1 },
  ]);
  expect(groups).toEqual([
    { reason: '550 5.1.1 … nobody', sends: 6, destinations: ['far.example', 'out.example'], lastAt: 9 },
    { reason: 'no reply', sends: 1, destinations: ['mute.example'], lastAt: 1 },
  ]);
  const many = Array.from({ length: 40 }, (_none, at) => ({
    destination: `d${at % 9}.example`,
    reply: `reason ${'abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMN'[at]}`,
    sends: at + 1,
    lastAt: 1,
  }));
  expect(groupFailures(many).map((one) => one.sends)).toEqual(Array.from({ length: 40 }, (_none, at) => 40 - at));
  expect(groupFailures(many.map((one) => ({ ...one, reply: 'one' })))[0]?.destinations).toHaveLength(5);
});
