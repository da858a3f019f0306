import { expect, it } from 'vitest';
import { headerFault } from '../../../src/core/message/header-shape.ts';

const fault = (...lines: string[]): string | null => headerFault(Buffer.from(`${lines.join('\r\n')}\r\n\r\nFrom : body\r\n`, 'latin1'));

it.each([
  ['a vertical tab before it', '\x0bFrom: ceo@bank.example'],
  ['a byte order mark before it', '\u00ef\u00bb\u00bfFrom: ceo@bank.example'],
  ['a space that does not break before it', '\u00a0From: ceo@bank.example'],
  ['a fold within the name', 'F\r\n rom: ceo@bank.example'],
  ['a fold before the colon', 'From\r\n : ceo@bank.example'],
  ['a space within the name', 'Fr om: ceo@bank.example'],
  ['no name', ': ceo@bank.example'],
  ['no colon', 'From ceo@bank.example'],
  ['a line of an old mailbox', 'From ceo@bank.example Mon Dec  1 10:00:00 2026'],
])('a header is refused for a line that is no field: %s', (_what, line) => {
  expect(fault('Subject: x', line)).toMatch(/^The header has a line that is not a field: "/);
  expect(fault(line)).toMatch(/^The header has a line that is not a field: "/);
});

it.each(['From.: x', 'Fro-m: x', 'FROM_: x', 'Sender.: x', 'Authentication-Results.: x', 'AuthenticationResults: x'])(
  'a header is refused for a name that is nearly one that is acted on: %s',
  (line) => expect(fault('Subject: x', line)).toMatch(/^The header has a field that only looks like /),
);

it('what the standard allows is no fault: any case, spaces before the colon, folds in values, names of any kind', () => {
  expect(
    fault(
      'from: a@b.example',
      'SENDER : a@b.example',
      'Subject: x\r\n\ty',
      'X-From: x',
      'Resent-From: x',
      'x!#$%: y',
      'To:',
      'Authentication-Results: x',
    ),
  ).toBeNull();
  expect(headerFault(Buffer.from('\r\nFrom no header\r\n'))).toBeNull();
});
