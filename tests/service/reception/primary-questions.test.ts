import { expect, it } from 'vitest';
import { type PrimaryAnswer, PrimaryQuestions, type QuestionEnd } from '../../../src/service/reception/primary-questions.ts';

const YES: PrimaryAnswer = { kind: 'yes' };
const UNKNOWN: PrimaryAnswer = { kind: 'unknown' };

it('a server that hangs holds up nobody for more than some seconds, and nobody else; later it is asked again', async () => {
  const time = { steady: 0 };
  const questions = new PrimaryQuestions({ steady: () => time.steady }, 30);
  let given = 0;
  let asked = 0;
  const hangs = ({ watch }: QuestionEnd): Promise<PrimaryAnswer> => {
    asked += 1;
    watch.current = { textSent: false, giveUp: () => (given += 1) };
    return new Promise(() => {});
  };
  const answers = Array.from({ length: 151 }, () => questions.ask(1, hangs));
  // Another domain's server is asked meanwhile.
  expect(await questions.ask(2, async () => YES)).toEqual(YES);
  expect(await Promise.all(answers)).toEqual(answers.map(() => UNKNOWN));
  expect([asked, given]).toEqual([1, 1]);
  expect(await questions.ask(1, async () => YES)).toEqual(UNKNOWN);
  time.steady = 31_000;
  expect(await questions.ask(1, async () => YES)).toEqual(YES);
});

it('questions to one server come one after the other', async () => {
  const questions = new PrimaryQuestions({ steady: () => 0 });
  let open = 0;
  let most = 0;
  const ask = () =>
    questions.ask(1, async () => {
      open += 1;
      most = Math.max(most, open);
      await new Promise((resolve) => setImmediate(resolve));
      open -= 1;
      return YES;
    });
  expect(await Promise.all(Array.from({ length: 40 }, ask))).toEqual(Array.from({ length: 40 }, () => YES));
  expect(most).toBe(1);
});
