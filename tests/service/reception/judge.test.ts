import { afterEach, expect, it } from 'vitest';
import type { Lookup } from '../../../src/core/records/answers.ts';
import { judgeArrival } from '../../../src/service/reception/judge.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { lookupIn } from '../../support/lookup.ts';

let bare: Bare;
afterEach(() => bare.close());

const ZONE = lookupIn([
  ['bank.example', 'TXT', 'v=spf1 include:a.bank.example include:b.bank.example include:c.bank.example -all'],
  ['a.bank.example', 'TXT', 'v=spf1 ?all'],
  ['b.bank.example', 'TXT', 'v=spf1 ?all'],
  ['c.bank.example', 'TXT', 'v=spf1 ip4:192.0.2.9 -all'],
  ['_dmarc.bank.example', 'TXT', 'v=DMARC1; p=none'],
]);

/** Judges with name servers that take so long for each answer. */
async function judged(eachMs: number): Promise<{ spf: string; dmarc: string; asked: number }> {
  let asked = 0;
  const lookup = (async (...question: Parameters<Lookup>) => {
    asked += 1;
    bare.pass(eachMs);
    return ZONE(...question);
  }) as Lookup;
  bare = await openBare({ lookup });
  const content = Buffer.from('From: ceo@bank.example\r\nSubject: x\r\n\r\nbody\r\n');
  const arrival = { clientAddress: '192.0.2.9', helo: 'mx.bank.example', sender: 'ceo@bank.example', content };
  const { data } = await judgeArrival(bare.context, arrival, 'enforce');
  const { spf, dmarc } = data as { spf: { result: string }; dmarc: { result: string } };
  return { spf: spf.result, dmarc: dmarc.result, asked };
}

it('name servers have twenty seconds for one message; after that nothing is asked, and nothing is held against the sender', async () => {
  const patient = await judged(3000);
  expect(patient).toMatchObject({ spf: 'pass', dmarc: 'pass' });
  bare.close();
  const late = await judged(7000);
  expect(late).toEqual({ spf: 'temperror', dmarc: 'temperror', asked: 3 });
});
