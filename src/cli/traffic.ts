import type { Command } from 'commander';
import type { JournalEntry, JourneyRow, JourneyView, Overview } from '../api/schemas.ts';
import { type ApiClient, part } from './client.ts';
import { wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, shortened, show, size, state, styled, table, time } from './output.ts';
import { heldText } from './queue.ts';

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
              one.held !== null ? heldText(one.held) : one.nextAttemptAt === null ? '–' : time(one.nextAttemptAt),
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
      [
        'queue',
        one.counts.queued === 0
          ? 'empty'
          : `${count(one.counts.queued, 'recipient')}, ${one.counts.delayed} delayed, ${one.counts.held} held`,
      ],
      ['sent today', `${count(one.sends, 'send')} in the last 24 hours`],
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
}
