import type { Command } from 'commander';
import type { QueueDestinations, QueueItem, QueueList } from '../api/mail-schemas.ts';
import { confirm } from './ask.ts';
import { type ApiClient, CommandError, EXIT } from './client.ts';
import { spanOption, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, shortened, show, size, state, styled, table, time } from './output.ts';

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
    .option('--domain <domain>', 'mail of this domain here')
    .option('--destination <domain>', 'mail for this domain')
    .option('--sender <address>', 'mail of this sender')
    .option('--older <span>', 'accepted at least so long ago, like 30m, 4h or 2d', spanOption)
    .option('--held <why>', 'limit, brake, pause, unusual, hand, any or none');
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

const rowsText = ({ recipients, messages, rows }: QueueList): string =>
  rows.length === 0
    ? 'No waiting message matches.'
    : [
        table(
          ['journey', 'from', 'to', 'state', 'attempts', 'next attempt (UTC)', 'last reply'],
          rows.map((row) => [
            row.journeyId,
            shortened(safe(row.sender ?? '(report)'), 30),
            shortened(safe(row.address), 32),
            state(row.state),
            row.attempts,
            nextText(row),
            shortened(safe(row.reply ?? ''), 42),
          ]),
        ),
        '',
        dim(
          `${count(recipients, 'recipient')} of ${count(messages, 'message')}${rows.length < recipients ? `; ${rows.length} shown` : ''}`,
        ),
      ].join('\n');

const destinationsText = ({ rows }: QueueDestinations): string =>
  rows.length === 0
    ? 'The queue is empty.'
    : table(
        ['destination', 'recipients', 'held', 'delayed', 'oldest (UTC)', 'next attempt (UTC)', 'last reply'],
        rows.map((row) => [
          row.destination,
          row.recipients,
          row.held,
          row.delayed,
          time(row.oldestAt),
          row.nextAttemptAt === null ? '–' : time(row.nextAttemptAt),
          shortened(safe(row.lastReply ?? ''), 60),
        ]),
      );

const itemText = (row: QueueItem): string =>
  facts([
    ['to', bold(safe(row.address))],
    ['from', safe(row.sender ?? '(report)') + (row.sendAs ? dim(` as ${row.sendAs}`) : '')],
    ['journey', `${row.journeyId}, accepted ${time(row.acceptedAt)} UTC, ${size(row.size)}`],
    ['state', `${state(row.state)} after ${count(row.attempts, 'attempt')}`],
    ['next', row.held !== null ? `${heldText(row.held)} since ${time(row.heldAt ?? row.changedAt)} UTC` : `${nextText(row)} UTC`],
    ['last reply', safe(row.reply ?? 'none yet')],
  ]);

export function queueCommands(program: Command, client: ApiClient, json: Json): void {
  const queue = program.command('queue').description('recipients that wait');
  const list = async (selection: Selection, limit: number): Promise<QueueList> =>
    client.get<QueueList>(`/queue?${new URLSearchParams({ ...query(selection), limit: String(limit) })}`);
  selected(queue.command('list').description('list what waits, next first'))
    .option('--by-destination', 'one line a destination, with the last reply')
    .option('--limit <number>', 'how many', wholeNumber, 100)
    .action(async (options: Selection & { byDestination?: true; limit: number }) => {
      if (options.byDestination) return show(json, await client.get<QueueDestinations>('/queue/destinations'), destinationsText);
      const found = await list(options, options.limit);
      return show(json, found, (view) =>
        view.recipients === 0 && Object.keys(query(options)).length === 0 ? 'The queue is empty.' : rowsText(view),
      );
    });
  queue
    .command('show <journey>')
    .description('what of a message waits, and why')
    .action(async (id: string) => {
      const found = await list({ id }, 500);
      if (found.rows.length === 0)
        throw new CommandError(EXIT.refused, `Nothing of journey ${id} is waiting.`, `See what became of it: tenedor journey ${id}`);
      show(json, found, ({ rows }) => `${rows.map(itemText).join('\n\n')}\n\n${dim(`The whole way: tenedor journey ${id}`)}`);
    });
  const done = { retry: 'will be tried at once', hold: 'held', release: 'let go', drop: 'given up; the senders are told' };
  const words = {
    retry: 'try it now',
    hold: 'hold it until it is released',
    release: 'let it go that was held by hand, brake or pause',
    drop: 'give it up, and tell the senders',
  };
  for (const act of ['retry', 'hold', 'release', 'drop'] as const)
    selected(queue.command(`${act} [journeys...]`).description(words[act]))
      .option('--reason <text>', 'why; the journal keeps it')
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
            'Nothing says which mail is meant.',
            `Name journeys, or --domain, --destination, --sender, --older or --held: tenedor queue ${act} --help`,
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
            `${count(result.recipients, 'recipient')} ${done[act]}.${single && act !== 'drop' ? ` See how it went: tenedor journey ${ids[0]}` : ''}`,
        );
      });
}

async function countMatching(client: ApiClient, ids: string[], options: Selection): Promise<{ recipients: number }> {
  const one = async (id?: string): Promise<number> =>
    (await client.get<QueueList>(`/queue?${new URLSearchParams({ ...query({ ...options, ...(id ? { id } : {}) }), limit: '1' })}`))
      .recipients;
  const numbers = ids.length === 0 ? [await one()] : await Promise.all(ids.map((id) => one(id)));
  return { recipients: numbers.reduce((total, number) => total + number, 0) };
}
