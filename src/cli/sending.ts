import type { Command } from 'commander';
import type { LedgerView, Limits, SendingView, Statement, Stop } from '../api/mail-schemas.ts';
import { confirm } from './ask.ts';
import { type ApiClient, CommandError, EXIT, part } from './client.ts';
import { type LimitArgument, limitArgument, limitTable } from './limit-values.ts';
import { momentOption, positiveNumber, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, say, shortened, show, size, styled, table, time } from './output.ts';

const SCOPE = 'a domain, a mailbox, server, customer:NAME, outlet:NAME or a network';

function limitsText(one: Limits): string {
  const full =
    one.kind === 'outlet'
      ? []
      : [
          [
            'when full',
            one.whenFull === 'refuse'
              ? 'refused, 452 4.7.28'
              : `held until there is room: at most ${count(one.holdMost, 'recipient')}, ${count(one.holdHours, 'hour')}${one.waiting > 0 ? `; ${one.waiting} wait now` : ''}`,
          ] as [string, string],
        ];
  return [
    facts([
      ['limits of', bold(safe(one.name))],
      ...full,
      ...(one.choiceFrom === 'own' && one.kind !== 'server' ? [['', dim('its own choice, not the plan’s')] as [string, string]] : []),
    ]),
    '',
    limitTable(one.limits),
  ].join('\n');
}

function hoursText(hours: LedgerView['hours']): string {
  const most = Math.max(...hours.map((one) => one.sends), 1);
  return hours
    .map(
      (one) =>
        `${dim(time(one.hour).slice(0, 16))}  ${String(one.sends).padStart(7)}  ${styled('cyan', '▇'.repeat(Math.max(1, Math.round((30 * one.sends) / most))))}`,
    )
    .join('\n');
}

function ledgerText(view: LedgerView, lines: number): string {
  const shown = view.lines.slice(0, lines);
  const own = view.scope.includes('@');
  return [
    bold(safe(view.name)),
    '',
    limitTable(view.limits),
    '',
    `${count(view.total.messages, 'message')} with ${count(view.total.sends, 'send')}, ${size(view.total.bytes)}, since ${time(view.since)} UTC`,
    ...(view.hours.length > 0
      ? [
          '',
          hoursText(view.hours),
          '',
          table(
            ['time (UTC)', ...(own ? [] : ['sent by']), 'sends', 'size', 'journey', 'subject'],
            shown.map((one) => [
              time(one.at),
              ...(own ? [] : [one.kind === 'forwarded' ? `${one.domain}, forwarded` : (one.mailbox ?? one.domain)]),
              one.sends,
              size(one.bytes),
              one.journeyId,
              shortened(safe(one.subject ?? ''), 40),
            ]),
          ),
        ]
      : []),
    ...(view.lines.length > shown.length ? [dim(`${shown.length} of ${view.lines.length} lines; more with --lines.`)] : []),
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
      ['statement of', bold(safe(one.name)) + (one.removedAt === null ? '' : dim(`  removed on ${time(one.removedAt)}`))],
      ['days', `${one.from} to ${one.to} (${one.zone})`],
      ['total', `${count(one.total.messages, 'message')}, ${count(one.total.sends, 'send')}, ${size(one.total.bytes)}`],
      ['of that', `${count(one.forwarded.sends, 'send')} forwarded by aliases`],
    ]),
    ...(used.length === 0
      ? ['', 'Nothing was charged in these days.']
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

function stopRows(all: Stop[]): string {
  if (all.length === 0) return 'Nothing is paused, braked or stopped.';
  return table(
    ['what', 'on', 'stopped', 'held', 'since (UTC)', 'why'],
    all.map((one) => [
      one.kind,
      safe(one.name),
      one.sending && one.receiving ? 'sending, receiving' : one.sending ? 'sending' : 'receiving',
      one.held,
      time(one.at),
      shortened(safe(one.text), 70),
    ]),
  );
}

export function sendingCommands(program: Command, client: ApiClient, json: Json): void {
  const limit = program.command('limit').description('how much may be sent');
  limit
    .command('show <scope>')
    .description(`what is used, the limits, and when there is room again; of ${SCOPE}`)
    .action(async (scope: string) => show(json, await client.get<Limits>(`/limits/${part(scope)}`), limitsText));
  limit
    .command('set <scope> [limits...]')
    .description('set limits, like day=1000, month:bytes=50G, hour=none or day=plan; they count from the next recipient on')
    .option('--when-full <what>', 'refuse, hold, or plan')
    .option('--hold-most <recipients>', 'how many may wait for room', wholeNumber)
    .option('--hold-hours <hours>', 'how long one may wait', wholeNumber)
    .action(async (scope: string, values: string[], options: { whenFull?: string; holdMost?: number; holdHours?: number }) => {
      if (values.length === 0 && Object.keys(options).length === 0)
        throw new CommandError(EXIT.usage, 'No limit was named.', `Name one, like: tenedor limit set ${scope} hour=200 day=1000`);
      show(json, await client.put<Limits>(`/limits/${part(scope)}`, { limits: values.map(asLimit), ...options }), limitsText);
    });
  limit
    .command('raise <scope> <limit>')
    .description('raise a limit for a while, like day=5000')
    .requiredOption('--until <when>', 'like 2026-12-01T18:00, or 36h from now', momentOption)
    .requiredOption('--reason <text>', 'why; the journal keeps it')
    .action(async (scope: string, value: string, options: { until: number; reason: string }) =>
      show(json, await client.post<Limits>(`/limits/${part(scope)}/raises`, { ...asLimit(value), ...options }), limitsText),
    );
  limit
    .command('lower <scope>')
    .description('end all raises of a scope now')
    .action(async (scope: string) => show(json, await client.delete<Limits>(`/limits/${part(scope)}/raises`), limitsText));

  program
    .command('ledger <scope>')
    .description(`what was charged; to ${SCOPE}`)
    .option('--days <number>', 'how far back', positiveNumber, 1)
    .option('--lines <number>', 'how many messages to list', wholeNumber, 12)
    .action(async (scope: string, options: { days: number; lines: number }) =>
      show(json, await client.get<LedgerView>(`/ledger/${part(scope)}?days=${options.days}`), (view) => ledgerText(view, options.lines)),
    );
  program
    .command('statement <scope>')
    .description('the ledger’s extract for whole days, by day and by mailbox')
    .option('--from <day>', 'first day, like 2026-11-01 (otherwise the first of the month)')
    .option('--to <day>', 'last day (otherwise today)')
    .option('--csv', 'as comma-separated values')
    .action(async (scope: string, options: { from?: string; to?: string; csv?: true }) => {
      const query = new URLSearchParams({ ...(options.from ? { from: options.from } : {}), ...(options.to ? { to: options.to } : {}) });
      if (options.csv) say((await client.get<{ csv: string }>(`/statements/${part(scope)}/csv?${query}`)).csv.trimEnd());
      else show(json, await client.get<Statement>(`/statements/${part(scope)}?${query}`), statementText);
    });
  program
    .command('senders')
    .description('who sends most, and how it ends')
    .option('--domain <domain>', 'only this domain')
    .option('--days <number>', 'how far back', positiveNumber, 1)
    .action(async (options: { domain?: string; days: number }) => {
      const query = new URLSearchParams({ days: String(options.days), ...(options.domain ? { domain: options.domain } : {}) });
      show(json, await client.get<SendingView>(`/sending?${query}`), ({ top, outcomes }) => {
        const sum = (state: string): number => outcomes.filter((one) => one.state === state).reduce((total, one) => total + one.sends, 0);
        return top.length === 0
          ? 'Nothing was sent in that time.'
          : [
              `${styled('green', `${sum('relayed').toLocaleString('en')} relayed`)}, ${styled('red', `${sum('failed').toLocaleString('en')} failed`)}`,
              '',
              table(
                ['sent by', 'messages', 'sends', 'size'],
                top.map((one) => [one.mailbox ?? `${one.domain}, forwarded`, one.messages, one.sends, size(one.bytes)]),
              ),
            ].join('\n');
      });
    });

  stopCommands(program, client, json);
}

const asLimit = (text: string): LimitArgument => {
  try {
    return limitArgument(text);
  } catch (error) {
    throw new CommandError(EXIT.usage, (error as Error).message, 'See: tenedor limit set --help');
  }
};

function stopCommands(program: Command, client: ApiClient, json: Json): void {
  const released = (what: string) => (result: { recipients: number }) =>
    `${what} ${count(result.recipients, 'held recipient')} ${result.recipients === 1 ? 'goes' : 'go'} on.`;
  program
    .command('pause <scope>')
    .description('pause a domain, a mailbox or customer:NAME: temporary refusals, and its queued mail is held')
    .option('--sending', 'only sending')
    .option('--receiving', 'only receiving')
    .option('--text <words>', 'what senders and users are told (plain ASCII)')
    .action(async (scope: string, options: { sending?: true; receiving?: true; text?: string }) => {
      const both = !options.sending && !options.receiving;
      const body = {
        scope,
        sending: both || options.sending === true,
        receiving: both || options.receiving === true,
        text: options.text ?? null,
      };
      show(json, await client.post<Stop>('/stops', body), (one) => `${stopRows([one])}\n${dim(`End it with: tenedor resume ${scope}`)}`);
    });
  program
    .command('resume <scope>')
    .description('end a pause')
    .action(async (scope: string) =>
      show(
        json,
        await client.post<{ recipients: number }>('/stops/release', { scope, kind: 'pause' }),
        released(`${scope} is no longer paused.`),
      ),
    );

  const brake = program.command('brake').description('what was stopped because too many sends failed, or because it sent unlike itself');
  brake
    .command('list')
    .description('list brakes, stops and pauses')
    .action(async () => show(json, await client.get<Stop[]>('/stops'), stopRows));
  const kindOf = async (scope: string): Promise<'brake' | 'unusual'> => {
    const all = await client.get<Stop[]>('/stops');
    return all.some((one) => one.scope === scope && one.kind === 'unusual') ? 'unusual' : 'brake';
  };
  brake
    .command('release <scope>')
    .description('let a domain or mailbox send again; what is held goes on')
    .action(async (scope: string) =>
      show(
        json,
        await client.post<{ recipients: number }>('/stops/release', { scope, kind: await kindOf(scope) }),
        released(`${scope} may send again.`),
      ),
    );
  brake
    .command('discard <scope>')
    .description('drop what is held; the brake stays set, and the senders are told')
    .option('--yes', 'do not ask')
    .action(async (scope: string, options: { yes?: true }) => {
      const kind = await kindOf(scope);
      const one = (await client.get<Stop[]>('/stops')).find((stop) => stop.scope === scope && stop.kind === kind);
      if (one && one.held > 0) await confirm(`${count(one.held, 'held recipient')} of ${scope} will not get their mail.`, options.yes);
      show(
        json,
        await client.post<{ recipients: number }>('/stops/discard', { scope, kind }),
        (result) => `${count(result.recipients, 'recipient')} dropped.`,
      );
    });
  brake
    .command('clear <mailbox>')
    .description('a flag for unusual sending was looked at, and all is well')
    .action(async (scope: string) => {
      await client.post('/unusual/clear', { scope });
      show(json, {}, () => `${scope} is no longer flagged.`);
    });
}
