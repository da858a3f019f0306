import type { Command } from 'commander';
import type { Domain, JournalEntry, JourneyRow, JourneyView, LedgerView, Overview, QueueItem } from '../api/schemas.ts';
import { type ApiClient, CommandError, EXIT, part } from './client.ts';
import { type LimitOption, limitOption, limitValue, positiveNumber, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, limitText, meter, safe, show, size, state, styled, table, time } from './output.ts';

function roomText(usage: { used: number; limit: number | null; roomAt: number | null }): string {
  if (usage.limit === null || usage.used < usage.limit) return '';
  return usage.roomAt === null ? '   full' : `   full, room again at ${time(usage.roomAt)} UTC`;
}

const limitFacts = (one: Domain): string =>
  facts([
    ['domain', bold(one.name)],
    ['hour', meter(one.usage.hour.used, one.hourLimit) + roomText(one.usage.hour)],
    ['day', meter(one.usage.day.used, one.dayLimit) + roomText(one.usage.day)],
    ...(one.usage.reserved > 0 ? [['promised', `${one.usage.reserved} to open connections`] as [string, string]] : []),
  ]);

const shortened = (text: string, most: number): string => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

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
  return [
    limitFacts(view.domain),
    '',
    `${count(view.total, 'send')} since ${time(view.since)} UTC`,
    ...(view.hours.length > 0
      ? [
          '',
          hoursText(view.hours),
          '',
          table(
            ['time (UTC)', 'mailbox', 'sends', 'journey', 'subject'],
            shown.map((one) => [
              time(one.at),
              one.mailbox ?? 'through an alias',
              one.sends,
              one.journeyId,
              shortened(safe(one.subject ?? ''), 40),
            ]),
          ),
        ]
      : []),
    ...(view.lines.length > shown.length ? [dim(`${shown.length} of ${view.lines.length} lines; more with --lines.`)] : []),
  ].join('\n');
}

const EVENT_STYLE: Record<string, 'green' | 'red' | 'yellow'> = {
  delivered: 'green',
  relayed: 'green',
  accepted: 'green',
  refused: 'red',
  failed: 'red',
  delayed: 'yellow',
};
const event = (name: string, width: number): string =>
  EVENT_STYLE[name] ? styled(EVENT_STYLE[name], name.padEnd(width)) : name.padEnd(width);

function journeyText({ journey, recipients, entries }: JourneyView): string {
  const width = Math.max(...entries.map((entry) => entry.event.length), 5);
  return [
    facts([
      ['journey', `${bold(journey.id)}   ${journey.kind}, ${state(journey.outcome)}`],
      ['from', safe(journey.sender ?? 'nobody (a report)')],
      ['to', safe(journey.recipients)],
      ['subject', safe(journey.subject) || dim('none')],
      ['size', journey.size > 0 ? size(journey.size) : dim('nothing was taken')],
    ]),
    '',
    ...entries.map(
      (entry) =>
        `${dim(new Date(entry.at).toISOString().slice(0, 23).replace('T', ' '))}  ${event(entry.event, width)}  ${safe(entry.text)}`,
    ),
    ...(recipients.length > 0
      ? [
          '',
          table(
            ['recipient', 'state', 'attempts', 'next attempt (UTC)'],
            recipients.map((one) => [
              safe(one.address),
              state(one.state),
              one.attempts,
              one.nextAttemptAt === null ? '–' : time(one.nextAttemptAt),
            ]),
          ),
        ]
      : []),
    ...(recipients.some((one) => one.nextAttemptAt !== null) ? [dim(`Try now: tenedor queue retry ${journey.id}`)] : []),
  ].join('\n');
}

const states = (row: JourneyRow): string =>
  row.outcome === 'refused'
    ? state('refused')
    : Object.entries(row.states)
        .map(([name, number]) => `${state(name as 'queued')}${number > 1 ? ` ×${number}` : ''}`)
        .join(' ');

function statusText(one: Overview): string {
  const harm = { high: 'red', middle: 'yellow', low: 'cyan' } as const;
  return [
    facts([
      ['service', `${bold(one.host)}, Tenedor ${one.version}, up since ${time(one.startedAt)} UTC`],
      ['here', `${count(one.counts.domains, 'domain')}, ${count(one.counts.mailboxes, 'mailbox', 'mailboxes')}`],
      ['queue', one.counts.queued === 0 ? 'empty' : `${count(one.counts.queued, 'recipient')}, ${one.counts.delayed} delayed`],
      [
        'sent today',
        `${count(
          one.hours.reduce((sum, hour) => sum + hour.sends, 0),
          'send',
        )} in the last 24 hours`,
      ],
    ]),
    '',
    one.attention.length === 0 ? styled('green', 'Nothing needs attention.') : bold('Needs attention'),
    ...one.attention.map(
      (item) =>
        `  ${styled(harm[item.harm], item.harm.padEnd(7))} ${(item.domain ?? '').padEnd(24)} ${safe(item.headline)}${item.also > 0 ? dim(` and ${item.also} more`) : ''}`,
    ),
  ].join('\n');
}

export function trafficCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('status')
    .description('what needs attention, first')
    .action(async () => show(json, await client.get<Overview>('/overview'), statusText));

  const limit = program.command('limit').description('how much a domain may send');
  limit
    .command('show <domain>')
    .description('sends used, limits, and when there is room again')
    .action(async (domain: string) => show(json, await client.get<Domain>(`/domains/${part(domain)}`), limitFacts));
  limit
    .command('set <domain>')
    .description('set a limit; it applies to the next recipient')
    .option('--hour <sends>', 'sends per hour, or none', limitOption)
    .option('--day <sends>', 'sends per day, or none', limitOption)
    .action(async (domain: string, options: { hour?: LimitOption; day?: LimitOption }) => {
      if (Object.keys(options).length === 0) throw new CommandError(EXIT.usage, 'No limit was named.', 'Use --hour, --day or both.');
      show(
        json,
        await client.put<Domain>(`/domains/${part(domain)}/limit`, {
          ...(options.hour === undefined ? {} : { hour: limitValue(options.hour) }),
          ...(options.day === undefined ? {} : { day: limitValue(options.day) }),
        }),
        (one) =>
          `${one.name} may now send ${limitText(one.hourLimit)} per hour and ${limitText(one.dayLimit)} per day.\n${limitFacts(one)}`,
      );
    });
  program
    .command('ledger <domain>')
    .description('what was charged to a domain')
    .option('--days <number>', 'how far back', positiveNumber, 1)
    .option('--lines <number>', 'how many messages to list', wholeNumber, 12)
    .action(async (domain: string, options: { days: number; lines: number }) =>
      show(json, await client.get<LedgerView>(`/domains/${part(domain)}/ledger?days=${options.days}`), (view) =>
        ledgerText(view, options.lines),
      ),
    );

  program
    .command('journey <id>')
    .description('one message’s way, from connection to final reply')
    .action(async (id: string) => show(json, await client.get<JourneyView>(`/journeys/${part(id)}`), journeyText));
  program
    .command('traffic')
    .description('search messages, newest first')
    .option('--search <text>', 'in sender, recipients, subject or id', '')
    .option('--domain <domain>', 'only messages of this domain')
    .option('--state <state>', 'queued, delivered, delayed, relayed, failed or refused')
    .option('--limit <number>', 'how many', wholeNumber, 20)
    .action(async (options: { search: string; domain?: string; state?: string; limit: number }) => {
      const query = new URLSearchParams({
        search: options.search,
        limit: String(options.limit),
        ...(options.domain ? { domain: options.domain } : {}),
        ...(options.state ? { state: options.state } : {}),
      });
      const list = await client.get<{ rows: JourneyRow[] }>(`/journeys?${query}`);
      show(json, list, ({ rows }) =>
        rows.length === 0
          ? 'No message matches.'
          : table(
              ['time (UTC)', 'journey', 'from', 'to', 'subject', 'state'],
              rows.map((row) => [
                time(row.at),
                row.id,
                shortened(safe(row.sender ?? '(report)'), 32),
                shortened(safe(row.recipients), 36),
                shortened(safe(row.outcome === 'refused' && row.subject === '' ? (row.trouble ?? '') : row.subject), 36),
                states(row),
              ]),
            ),
      );
    });
  program
    .command('journal [domain]')
    .description('the newest entries of the journal')
    .option('--limit <number>', 'how many', wholeNumber, 30)
    .action(async (domain: string | undefined, options: { limit: number }) => {
      const list = await client.get<{ rows: JournalEntry[] }>(`/journal?limit=${options.limit}${domain ? `&domain=${part(domain)}` : ''}`);
      show(json, list, ({ rows }) =>
        rows.length === 0
          ? 'Nothing has happened yet.'
          : table(
              ['time (UTC)', 'journey', 'domain', 'event', ''],
              rows
                .toReversed()
                .map((row) => [time(row.at), row.journeyId ?? '', row.domain ?? '', row.event, shortened(safe(row.text), 100)]),
            ),
      );
    });

  const queue = program.command('queue').description('recipients that wait for an attempt');
  queue
    .command('list')
    .description('list what waits, next first')
    .action(async () =>
      show(json, await client.get<{ rows: QueueItem[] }>('/queue'), ({ rows }) =>
        rows.length === 0
          ? 'The queue is empty.'
          : table(
              ['journey', 'from', 'to', 'state', 'attempts', 'next attempt (UTC)', 'last reply'],
              rows.map((row) => [
                row.journeyId,
                safe(row.sender ?? '(report)'),
                safe(row.address),
                state(row.state),
                row.attempts,
                time(row.nextAttemptAt ?? 0),
                shortened(safe(row.reply ?? ''), 50),
              ]),
            ),
      ),
    );
  queue
    .command('retry <journey>')
    .description('try the waiting recipients of a message now')
    .action(async (id: string) =>
      show(
        json,
        await client.post<{ recipients: number }>(`/journeys/${part(id)}/retry`),
        (result) => `${count(result.recipients, 'recipient')} of ${id} will be tried at once. See how it went: tenedor journey ${id}`,
      ),
    );
}
