import type { Command } from 'commander';
import type { Limits } from '../api/mail-schemas.ts';
import type { QueueDestinations, QueueItem, QueueList } from '../api/queue-schemas.ts';
import { HELD, ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part, requireDomainOf } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { limitLine } from './limit-values.ts';
import { type ListOptions, reverseOption, sortOption } from './lists.ts';
import { choice, rowsOption, SPAN_WORDS, spanOption, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, show, size, stamp, state, styled, table, time, zoned } from './output.ts';

interface Selection {
  id?: string;
  domain?: string;
  destination?: string;
  sender?: string;
  older?: number;
  held?: string;
}

const HELD_WORDS: Record<string, string> = {
  limit: 'for room under a limit',
  brake: 'by the brake',
  pause: 'by a pause',
  unusual: 'for unusual sending',
  hand: 'by hand',
};

export const heldText = (held: string | null): string => (held === null ? '' : styled('yellow', `held ${HELD_WORDS[held] ?? held}`));

function selected(command: Command): Command {
  return command
    .option('--domain <domain>', 'mail from this domain of ours')
    .option('--destination <domain>', 'mail to this domain')
    .option('--sender <address>', 'mail from this sender')
    .option('--older <span>', `accepted at least this long ago, ${SPAN_WORDS}`, spanOption)
    .addOption(choice('--held <why>', 'held for this reason, “any”, or “not” held', [...HELD, 'any', 'none']));
}

const query = ({ id, domain, destination, sender, older, held }: Selection): Record<string, string> => ({
  ...(id ? { id } : {}),
  ...(domain ? { domain } : {}),
  ...(destination ? { destination } : {}),
  ...(sender ? { sender } : {}),
  ...(older === undefined ? {} : { olderThanMinutes: String(older / 60_000) }),
  ...(held ? { held } : {}),
});

const nextText = (row: QueueItem): string =>
  row.held !== null ? heldText(row.held) : row.nextAttemptAt === null ? '–' : time(row.nextAttemptAt);

/** What only some orders are about is shown with them. */
const SORTED: Record<string, [heading: () => string, cell: (row: QueueItem) => string]> = {
  accepted: [() => zoned('accepted'), (row) => time(row.acceptedAt)],
  size: [() => 'size', (row) => size(row.size)],
};

const rowsText = ({ recipients, messages, rows }: QueueList, sort: string): string =>
  rows.length === 0
    ? 'No waiting messages match.'
    : [
        table(
          ['journey', ...(SORTED[sort] ? [SORTED[sort][0]()] : []), 'from', 'to', 'state', 'attempts', zoned('next attempt'), 'last reply'],
          rows.map((row) => [
            row.journeyId,
            ...(SORTED[sort] ? [SORTED[sort][1](row)] : []),
            safe(row.sender ?? '(report)'),
            safe(row.address),
            state(row.state),
            row.attempts,
            nextText(row),
            safe(row.reply ?? ''),
          ]),
        ),
        '',
        dim(
          `${count(recipients, 'recipient')} of ${count(messages, 'message')}${rows.length < recipients ? `; ${rows.length} shown, more with --limit and --offset` : ''}`,
        ),
      ].join('\n');

const destinationsText = ({ rows, total }: QueueDestinations): string =>
  rows.length === 0
    ? total === 0
      ? 'The queue is empty.'
      : `There are only ${count(total, 'destination')}.`
    : table(
        ['destination', 'recipients', 'held', 'delayed', zoned('oldest'), zoned('next attempt'), 'last reply'],
        rows.map((row) => [
          row.destination,
          row.recipients,
          row.held,
          row.delayed,
          time(row.oldestAt),
          row.nextAttemptAt === null ? '–' : time(row.nextAttemptAt),
          safe(row.lastReply ?? ''),
        ]),
      );

const itemText = (row: QueueItem): string =>
  facts([
    ['to', bold(safe(row.address))],
    ['from', safe(row.sender ?? '(report)') + (row.onwardSender ? dim(` as ${row.onwardSender}`) : '')],
    ['journey', `${row.journeyId}, accepted ${stamp(row.acceptedAt)}, ${size(row.size)}`],
    ['state', `${state(row.state)} after ${count(row.attempts, 'attempt')}`],
    [
      'next',
      row.held !== null
        ? `${heldText(row.held)} since ${stamp(row.heldAt ?? row.changedAt)}`
        : row.nextAttemptAt === null
          ? '–'
          : stamp(row.nextAttemptAt),
    ],
    ['last reply', safe(row.reply ?? 'none yet')],
  ]);

export function queueCommands(program: Command, client: ApiClient, json: Json): void {
  const queue = program.command('queue').description('mail waiting to be delivered');
  const list = async (selection: Selection, part: Record<string, string>): Promise<QueueList> =>
    client.get<QueueList>(`/queue?${new URLSearchParams({ ...query(selection), ...part })}`);
  selected(queue.command('list').description('list waiting recipients'))
    .option('--by-destination', 'one line per destination, with its last reply; most recipients first')
    .addOption(sortOption(ORDERS.queue).conflicts('byDestination'))
    .addOption(reverseOption().conflicts('byDestination'))
    .option('--limit <number>', 'how many', rowsOption, 100)
    .option('--offset <number>', 'skip this many', wholeNumber, 0)
    .action(async (options: Selection & Omit<ListOptions, 'search'> & { byDestination?: true; limit: number; offset: number }) => {
      const { sort, reverse, limit, offset } = options;
      if (options.byDestination)
        return show(json, await client.get<QueueDestinations>(`/queue/destinations?limit=${limit}&offset=${offset}`), destinationsText);
      const found = await list(options, { sort, reverse: String(reverse === true), limit: String(limit), offset: String(offset) });
      await requireDomainOf(client, options.domain, found.rows.length === 0);
      return show(json, found, (view) =>
        view.recipients === 0 && Object.keys(query(options)).length === 0 ? 'The queue is empty.' : rowsText(view, sort),
      );
    });
  queue
    .command('show <journey>')
    .description('show a message’s waiting recipients, and why each waits')
    .action(async (id: string) => {
      const rows = await client.list<QueueItem>(`/queue?id=${part(id)}`);
      if (rows.length === 0)
        throw new CommandError(EXIT.refused, `No recipients of journey ${id} are waiting.`, `See its delivery: tenedor journey ${id}`);
      const full = json() ? [] : await fullLimits(client, rows);
      show(json, { recipients: rows.length, messages: 1, rows }, () =>
        [...rows.map(itemText), ...(full.length > 0 ? [full.join('\n')] : []), dim(`Full history: tenedor journey ${id}`)].join('\n\n'),
      );
    });
  const done = { retry: 'will be tried immediately', hold: 'held', release: 'let go', drop: 'given up; the senders are notified' };
  const words = {
    retry: 'try delivery now',
    hold: 'hold mail until it is released',
    release: 'release mail held by hand, brake or pause',
    drop: 'give up on mail, and notify its senders',
  };
  for (const act of ['retry', 'hold', 'release', 'drop'] as const)
    selected(queue.command(`${act} [journeys...]`).description(words[act]))
      .option('--reason <text>', 'reason, recorded in the journal')
      .option('--yes', 'do not ask')
      .action(async (ids: string[], options: Selection & { yes?: true; reason?: string }) => {
        const { id: _id, older, reason, yes, ...rest } = options;
        const selection = {
          ...(ids.length > 0 ? { ids } : {}),
          ...rest,
          ...(older === undefined ? {} : { olderThanMinutes: older / 60_000 }),
        };
        if (Object.keys(selection).length === 0)
          throw new CommandError(
            EXIT.usage,
            'No mail was selected.',
            `Name journeys, or use --domain, --destination, --sender, --older or --held: tenedor queue ${act} --help`,
          );
        const single = ids.length === 1 && Object.keys(selection).length === 1;
        // In bulk, what was counted is what is done, and nothing else.
        const expected = single ? null : (await countMatching(client, ids, options)).recipients;
        if (expected !== null || act === 'drop') {
          const number = expected ?? (await countMatching(client, ids, options)).recipients;
          if (number > 0) await confirm(`${count(number, 'recipient')} ${number === 1 ? 'matches' : 'match'}: ${words[act]}?`, yes);
        }
        show(
          json,
          await client.post<{ recipients: number }>('/queue/actions', { act, ...selection, expected, reason: reason ?? '' }),
          (result) =>
            `${count(result.recipients, 'recipient')} ${done[act]}.${single && act !== 'drop' ? ` See the result: tenedor journey ${ids[0]}` : ''}`,
        );
      });
}

/** The limits in the way of what waits for room, with when there is some again; a line each. */
async function fullLimits(client: ApiClient, rows: readonly QueueItem[]): Promise<string[]> {
  const waiting = rows.filter((row) => row.held === 'limit');
  if (waiting.length === 0) return [];
  const scopes = new Set(waiting.flatMap((row) => [row.mailbox, row.senderDomain]).filter((one) => one !== null));
  const lines: string[] = [];
  for (const scope of [...scopes, 'server']) {
    const { limits } = await client.get<Limits>(`/limits/${part(scope)}`);
    for (const one of limits.filter((limit) => limit.roomAt !== null || limit.used >= (limit.amount ?? Number.POSITIVE_INFINITY)))
      lines.push(
        `${styled('yellow', 'full')}  ${scope}: ${limitLine(one)}; ${one.roomAt === null ? 'no room expected' : `room again at ${stamp(one.roomAt)}`}. Raise it: tenedor limit raise ${scope} ${one.period}=AMOUNT`,
      );
  }
  return lines.length > 0 ? lines : [dim('None of its limits is full now: it will be sent within a minute.')];
}

async function countMatching(client: ApiClient, ids: string[], options: Selection): Promise<{ recipients: number }> {
  const one = async (id?: string): Promise<number> =>
    (await client.get<QueueList>(`/queue?${new URLSearchParams({ ...query({ ...options, ...(id ? { id } : {}) }), limit: '1' })}`))
      .recipients;
  const numbers = ids.length === 0 ? [await one()] : await Promise.all(ids.map((id) => one(id)));
  return { recipients: numbers.reduce((total, number) => total + number, 0) };
}
