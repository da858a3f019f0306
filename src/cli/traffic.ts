import type { Command } from 'commander';
import type { JournalEntry, JourneyRow, JourneyView } from '../api/journey-schemas.ts';
import type { Explanation } from '../api/mail-schemas.ts';
import { RECIPIENT_STATES } from '../core/vocabulary.ts';
import { type ApiClient, part, requireDomainOf } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { follow } from './live.ts';
import { choice, pastOption, rowsOption, SPAN_WORDS, TIME_WORDS, wholeNumber } from './numbers.ts';
import {
  bold,
  dim,
  facts,
  harmlessJson,
  type Json,
  precise,
  safe,
  say,
  show,
  size,
  stamp,
  state,
  styled,
  table,
  time,
  zoned,
} from './output.ts';
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

/** Who did it, where it was not the service itself. */
const by = (entry: { by: string | null }): string => (entry.by === null ? '' : dim(`  by ${safe(entry.by)}`));

function journeyText({ journey, recipients, entries }: JourneyView): string {
  const width = Math.max(...entries.map((entry) => entry.event.length), 5);
  return [
    facts([
      ['journey', `${bold(journey.id)}   ${journey.kind}, ${state(journey.outcome)}`],
      ['from', safe(journey.sender ?? 'none (a report)')],
      ['to', safe(journey.recipients)],
      ['subject', safe(journey.subject) || dim('none')],
      ['began', stamp(journey.at)],
      ['size', journey.size > 0 ? size(journey.size) : dim('nothing was accepted')],
    ]),
    '',
    ...entries.map((entry) => `${dim(precise(entry.at))}  ${event(entry.event, width)}  ${safe(entry.text)}${by(entry)}`),
    ...(recipients.length > 0
      ? [
          '',
          table(
            ['recipient', 'state', 'attempts', zoned('next attempt')],
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

async function followJournal(
  client: ApiClient,
  json: Json,
  domain: string | undefined,
  options: { journey?: string; search: string },
): Promise<void> {
  const query = new URLSearchParams({
    search: options.search,
    ...(domain ? { domain } : {}),
    ...(options.journey ? { journey: options.journey } : {}),
  });
  process.on('SIGINT', () => process.exit(EXIT.done));
  if (!json()) say(dim(zoned('time')));
  await follow(
    client,
    query,
    (entry) =>
      say(
        json()
          ? harmlessJson(entry)
          : `${dim(time(entry.at))}  ${dim((entry.journeyId ?? '').padEnd(12))}  ${(entry.domain ?? '').padEnd(24)}  ${event(entry.event, 14)}  ${safe(entry.text)}${by(entry)}`,
      ),
    () => process.stderr.write('The service has stopped; waiting for it to return …\n'),
  );
}

function explanationText({ steps, outcome }: Explanation): string {
  const signs = { on: styled('green', '✓'), note: styled('yellow', '△'), stop: styled('red', '✕') };
  const ends = {
    accepted: styled('green', 'It would be accepted.'),
    held: styled('yellow', 'It would be accepted, and wait.'),
    refused: styled('red', 'It would be refused.'),
  };
  return [
    ...steps.map((one) => `${signs[one.verdict]} ${one.step.padEnd(10)} ${safe(one.text)}  ${dim(`[${safe(one.rule)}]`)}`),
    '',
    ends[outcome],
  ].join('\n');
}

export function trafficCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('journey <id>')
    .description('show the path of one message, from connection to final reply')
    .option('--ticket', 'as plain text to paste into a ticket')
    .action(async (id: string, options: { ticket?: true }) => {
      if (!options.ticket) return show(json, await client.get<JourneyView>(`/journeys/${part(id)}`), journeyText);
      return show(json, await client.get<{ text: string }>(`/journeys/${part(id)}/text`), ({ text }) => text.trimEnd());
    });
  program
    .command('traffic')
    .description('search messages, newest first')
    .option('--search <words>', 'words, or beginnings of words, from addresses, subject, Message-ID, client or journey', '')
    .option('--domain <domain>', 'only messages of this domain')
    .addOption(choice('--state <state>', 'only in this state', [...RECIPIENT_STATES, 'refused']))
    .option('--client <address>', 'only from this client')
    .option('--since <when>', `a time ${TIME_WORDS}, or a span ago ${SPAN_WORDS}`, pastOption)
    .option('--before <when>', 'until then, in the same form', pastOption)
    .option('--limit <number>', 'how many', rowsOption, 20)
    .action(
      async (options: {
        search: string;
        domain?: string;
        state?: string;
        client?: string;
        since?: number;
        before?: number;
        limit: number;
      }) => {
        const query = new URLSearchParams({
          search: options.search,
          limit: String(options.limit),
          ...(options.domain ? { domain: options.domain } : {}),
          ...(options.state ? { state: options.state } : {}),
          ...(options.client ? { client: options.client } : {}),
          ...(options.since === undefined ? {} : { since: String(options.since) }),
          ...(options.before === undefined ? {} : { before: String(options.before) }),
        });
        const list = await client.get<{ rows: JourneyRow[] }>(`/journeys?${query}`);
        await requireDomainOf(client, options.domain, list.rows.length === 0);
        show(json, list, ({ rows }) =>
          rows.length === 0
            ? 'No messages match.'
            : table(
                [zoned('time'), 'journey', 'from', 'to', 'subject', 'state'],
                rows.map((row) => [
                  time(row.at),
                  row.id,
                  safe(row.sender ?? '(report)'),
                  safe(row.recipients),
                  safe(row.outcome === 'refused' && row.subject === '' ? (row.trouble ?? '') : row.subject),
                  states(row),
                ]),
              ),
        );
      },
    );
  program
    .command('journal [domain]')
    .description('show the newest journal entries')
    .option('--limit <number>', 'how many', rowsOption, 30)
    .option('--before <number>', 'only entries older than this one', wholeNumber)
    .option('--live', 'keep showing new entries as they arrive')
    .option('--journey <id>', 'with --live: only this message')
    .option('--search <text>', 'with --live: only lines with this text', '')
    .action(
      async (domain: string | undefined, options: { limit: number; before?: number; live?: true; journey?: string; search: string }) => {
        if (options.live) return followJournal(client, json, domain, options);
        const lost = options.search !== '' ? '--search' : options.journey !== undefined ? '--journey' : null;
        if (lost !== null)
          throw new CommandError(
            EXIT.usage,
            `${lost} works only with --live: past entries are not searched.`,
            'To find messages: tenedor traffic --search WORDS; to show one: tenedor journey ID',
          );
        const query = new URLSearchParams({
          limit: String(options.limit),
          ...(domain ? { domain } : {}),
          ...(options.before === undefined ? {} : { before: String(options.before) }),
        });
        const list = await client.get<{ rows: JournalEntry[]; next: number | null }>(`/journal?${query}`);
        await requireDomainOf(client, domain, list.rows.length === 0);
        show(json, list, ({ rows, next }) =>
          rows.length === 0
            ? options.before === undefined
              ? 'Nothing has happened yet.'
              : 'There are no older entries.'
            : (next === null ? '' : `${dim(`Older entries: tenedor journal${domain ? ` ${domain}` : ''} --before ${next}`)}\n`) +
              table(
                [zoned('time'), 'journey', 'domain', 'event', ''],
                rows.toReversed().map((row) => [time(row.at), row.journeyId ?? '', row.domain ?? '', row.event, safe(row.text) + by(row)]),
              ),
        );
      },
    );

  program
    .command('explain')
    .description('predict what would happen to a message, and by which rule; exit code 1 if it would be refused')
    .requiredOption('--from <address>', 'the envelope sender, or <> for none')
    .requiredOption('--to <address>', 'the recipient')
    .option('--ip <address>', 'the client’s address')
    .option('--as <mailbox>', 'signed in as this mailbox')
    .action(async (options: { from: string; to: string; ip?: string; as?: string }) => {
      const result = await client.get<Explanation>(`/explain?${new URLSearchParams({ ...options })}`);
      show(json, result, explanationText);
      if (result.outcome === 'refused') process.exitCode = EXIT.notGood;
    });
}
