import type { Command } from 'commander';
import type { LedgerView, SendingFailures, SendingView, Statement } from '../api/mail-schemas.ts';
import { type ApiClient, part } from './client.ts';
import { SCOPE } from './limit.ts';
import { limitTable } from './limit-values.ts';
import { pastOption, positiveNumber, rowsOption, SPAN_WORDS, TIME_WORDS } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, say, show, size, stamp, styled, table, time, zoned } from './output.ts';

function hoursText(hours: LedgerView['hours']): string {
  const most = Math.max(...hours.map((one) => one.sends), 1);
  return [
    dim(`${zoned('hour').padEnd(16)}    sends`),
    ...hours.map(
      (one) =>
        `${dim(time(one.hour).slice(0, 16))}  ${String(one.sends).padStart(7)}  ${styled('cyan', '▇'.repeat(Math.max(1, Math.round((30 * one.sends) / most))))}`,
    ),
  ].join('\n');
}

function ledgerText(view: LedgerView): string {
  const own = view.scope.includes('@');
  return [
    bold(safe(view.name)),
    '',
    limitTable(view.limits),
    '',
    `${count(view.total.messages, 'message')} with ${count(view.total.sends, 'send')}, ${size(view.total.bytes)}, since ${stamp(view.since)}`,
    ...(view.hours.length > 0
      ? [
          '',
          hoursText(view.hours),
          '',
          table(
            [zoned('time'), ...(own ? [] : ['sent by']), 'sends', 'size', 'journey', 'subject'],
            view.lines.map((one) => [
              time(one.at),
              ...(own ? [] : [one.kind === 'forwarded' ? `${one.domain}, forwarded` : (one.mailbox ?? one.domain)]),
              one.sends,
              size(one.bytes),
              one.journeyId,
              safe(one.subject ?? ''),
            ]),
          ),
        ]
      : []),
    ...(view.lineCount > view.lines.length ? [dim(`${view.lines.length} of ${count(view.lineCount, 'line')}; more with --lines.`)] : []),
  ].join('\n');
}

function statementText(one: Statement): string {
  const used = one.days.filter((day) => day.sends > 0);
  const row = (name: string, amounts: { messages: number; sends: number; bytes: number }) => [
    name,
    amounts.messages,
    amounts.sends,
    size(amounts.bytes),
  ];
  return [
    facts([
      ['statement of', bold(safe(one.name)) + (one.removedAt === null ? '' : dim(`  removed on ${stamp(one.removedAt)}`))],
      ['days', `${one.from} to ${one.to} (${one.zone})`],
      ['total', `${count(one.total.messages, 'message')}, ${count(one.total.sends, 'send')}, ${size(one.total.bytes)}`],
      ['of that', `${count(one.forwarded.sends, 'send')} forwarded by aliases`],
    ]),
    ...(used.length === 0
      ? ['', 'No charges in these days.']
      : [
          '',
          table(
            ['day', 'messages', 'sends', 'size'],
            used.map((day) => row(day.day, day)),
          ),
          '',
          table(
            ['sent by', 'messages', 'sends', 'size'],
            one.parts.map((by) => row(by.kind === 'forwarded' ? `${by.domain}, forwarded` : (by.mailbox ?? by.domain), by)),
          ),
        ]),
  ].join('\n');
}

function sendersText({ top, senders, outcomes, reasons, total, whole }: SendingView & SendingFailures): string {
  const sum = (state: string): number => outcomes.filter((one) => one.state === state).reduce((total, one) => total + one.sends, 0);
  if (top.length === 0) return 'Nothing was sent in this period.';
  return [
    `${styled('green', `${sum('relayed').toLocaleString('en')} relayed`)}, ${styled('red', `${sum('failed').toLocaleString('en')} failed`)}`,
    '',
    table(
      ['sent by', 'messages', 'sends', 'size'],
      top.map((one) => [one.mailbox ?? `${one.domain}, forwarded`, one.messages, one.sends, size(one.bytes)]),
    ),
    ...(senders > top.length ? [dim(`${top.length} of ${count(senders, 'sender')}; more with --limit.`)] : []),
    ...(reasons.length === 0
      ? []
      : [
          '',
          bold('Why sends failed'),
          table(
            ['sends', 'reply of the other server', 'destinations'],
            reasons.map((one) => [one.sends, safe(one.reason), one.destinations.join(', ')]),
          ),
          ...(total > reasons.length ? [dim(`${reasons.length} of ${count(total, 'reason')}; more with --limit.`)] : []),
          ...(whole ? [] : [dim('Only the most frequent replies are included. Choose a shorter period to see all.')]),
        ]),
  ].join('\n');
}

export function ledgerCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('ledger <scope>')
    .description(`list charges of ${SCOPE}`)
    .option('--days <number>', 'number of days', positiveNumber, 1)
    .option('--lines <number>', 'number of messages', rowsOption, 12)
    .action(async (scope: string, options: { days: number; lines: number }) =>
      show(json, await client.get<LedgerView>(`/ledger/${part(scope)}?days=${options.days}&limit=${options.lines}`), ledgerText),
    );
  program
    .command('statement <scope>')
    .description('charges for whole days, by day and by mailbox')
    .option('--from <day>', 'first day, like 2026-11-01 (default: the first of the month)')
    .option('--to <day>', 'last day (default: today)')
    .option('--csv', 'as comma-separated values')
    .action(async (scope: string, options: { from?: string; to?: string; csv?: true }) => {
      const query = new URLSearchParams({ ...(options.from ? { from: options.from } : {}), ...(options.to ? { to: options.to } : {}) });
      if (options.csv) say((await client.get<{ csv: string }>(`/statements/${part(scope)}/csv?${query}`)).csv.trimEnd());
      else show(json, await client.get<Statement>(`/statements/${part(scope)}?${query}`), statementText);
    });
  program
    .command('senders')
    .description('top senders, results of their sends, and why sends fail')
    .option('--domain <domain>', 'only this domain')
    .option('--days <number>', 'number of days', positiveNumber, 1)
    .option('--since <when>', `from a time ${TIME_WORDS}, or a span ago ${SPAN_WORDS}`, pastOption)
    .option('--before <when>', 'until then', pastOption)
    .option('--limit <number>', 'number of senders and reasons', rowsOption, 20)
    .action(async (options: { domain?: string; days: number; since?: number; before?: number; limit: number }) => {
      const query = new URLSearchParams({
        days: String(options.days),
        limit: String(options.limit),
        ...(options.domain ? { domain: options.domain } : {}),
        ...(options.since === undefined ? {} : { since: String(options.since) }),
        ...(options.before === undefined ? {} : { before: String(options.before) }),
      });
      const [view, failures] = await Promise.all([
        client.get<SendingView>(`/sending?${query}`),
        client.get<SendingFailures>(`/sending/failures?${query}`),
      ]);
      show(json, { ...view, ...failures }, sendersText);
    });
}
