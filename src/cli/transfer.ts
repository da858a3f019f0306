import { type Command, Option } from 'commander';
import type { Transfer, TransferDetails } from '../api/transfer-schemas.ts';
import { ORDERS, type TransferKind, type TransferState } from '../core/vocabulary.ts';
import { type ApiClient, part } from './client.ts';
import { EXIT } from './errors.ts';
import { listCommand } from './lists.ts';
import { bold, dim, facts, type Json, progress, safe, show, size, stamp, styled, table, time, zoned } from './output.ts';

const EVERY_MS = 500;
const KINDS: Record<TransferKind, string> = { recover: 'restoring', import: 'import', export: 'export' };
const STATES: Record<TransferState, string> = {
  'under-way': 'under way',
  done: styled('green', '✓ done'),
  partly: styled('yellow', '! partly'),
  failed: styled('red', '✕ failed'),
  stopped: styled('yellow', '■ stopped'),
};

const howFar = (one: Pick<Transfer, 'done' | 'total'>): string =>
  one.total > 0 ? `${one.done.toLocaleString('en')} of ${one.total.toLocaleString('en')}` : one.done.toLocaleString('en');

const detailsText = (one: TransferDetails): string =>
  [
    facts([
      ['transfer', `${one.id}: ${KINDS[one.kind]} of ${bold(safe(one.subject))}, ${safe(one.place)}`],
      ['state', STATES[one.state]],
      ['began', stamp(one.startedAt)],
      ...(one.endedAt === null ? [] : ([['ended', stamp(one.endedAt)]] as [string, string][])),
      one.endedAt === null ? ['so far', `${howFar(one)} messages`] : ['result', safe(one.outcome)],
      ...(one.endedAt === null
        ? one.parts.filter((part) => !part.isOver).map((part): [string, string] => ['now', safe(`${part.address} ${part.folder}`)])
        : []),
    ]),
    ...(one.parts.length > 1
      ? [
          '',
          table(
            ['mailbox', 'checked', 'copied', 'already here', 'left out', 'size', ''],
            one.parts.map((part) => [
              safe(part.address),
              howFar(part),
              part.taken.toLocaleString('en'),
              part.known.toLocaleString('en'),
              part.leftOut,
              size(part.octets),
              part.fault !== null ? styled('red', safe(part.fault)) : part.isOver ? styled('green', '✓') : dim(safe(part.folder)),
            ]),
          ),
        ]
      : []),
    ...(one.leftOutList.length > 0
      ? [
          '',
          bold(one.leftOut > one.leftOutList.length ? `Left out (the first ${one.leftOutList.length} of ${one.leftOut})` : 'Left out'),
          ...one.leftOutList.map(
            (left) =>
              `  ${safe(left.address)}  ${left.what.startsWith('/') ? '' : `${safe(left.folder)}  `}${safe(left.what)}: ${safe(left.why)}`,
          ),
        ]
      : []),
    ...(one.state === 'stopped' || one.state === 'failed' || one.state === 'partly'
      ? [dim(`Continue with what is missing: tenedor transfer resume ${one.id}`)]
      : []),
  ].join('\n');

/** Waits for the end of a transfer, with its progress, and shows what came of it. */
async function followed(client: ApiClient, json: Json, id: number): Promise<void> {
  for (;;) {
    const one = await client.get<TransferDetails>(`/transfers/${id}`);
    if (one.state !== 'under-way') {
      progress('');
      show(json, one, detailsText);
      if (one.state !== 'done') process.exitCode = EXIT.notGood;
      return;
    }
    const now = one.parts.find((part) => !part.isOver);
    progress(`${howFar(one)} messages${now ? `; ${now.address} ${now.folder}` : ''} …`);
    await new Promise((resolve) => setTimeout(resolve, EVERY_MS));
  }
}

export const noWait = (): Option => new Option('--no-wait', 'start it, and do not wait for the end');

/** Begins a transfer and waits for its end, unless that is not wanted. */
export async function begun(client: ApiClient, json: Json, path: string, body: object, wait: boolean): Promise<void> {
  const one = await client.post<Transfer>(path, body);
  if (wait) return followed(client, json, one.id);
  show(json, one, () => `Transfer ${one.id} has started. See its progress: tenedor transfer show ${one.id}`);
}

export function transferCommands(program: Command, client: ApiClient, json: Json): void {
  const transfer = program.command('transfer').description('imports, exports and restores, past and running');
  listCommand<Transfer>(
    transfer,
    { client, json },
    {
      command: 'list',
      about: 'list transfers, newest first',
      orders: ORDERS.transfers,
      path: '/transfers',
      none: 'There are no transfers yet.',
      columns: () => ['', zoned('started'), 'type', 'subject', 'state', 'result'],
      row: (one) => [
        one.id,
        time(one.startedAt),
        KINDS[one.kind],
        safe(one.subject),
        STATES[one.state],
        one.endedAt === null ? `${howFar(one)} messages` : safe(one.outcome),
      ],
    },
  );
  transfer
    .command('show <id>')
    .description('show a transfer’s progress by mailbox, and what was left out')
    .action(async (id: string) => {
      const one = await client.get<TransferDetails>(`/transfers/${part(id)}`);
      show(json, one, detailsText);
      if (one.state !== 'done' && one.state !== 'under-way') process.exitCode = EXIT.notGood;
    });
  transfer
    .command('resume <id>')
    .description('continue a transfer that stopped, failed or left something out')
    .addOption(noWait())
    .action(async (id: string, { wait }: { wait: boolean }) => begun(client, json, `/transfers/${part(id)}/resume`, {}, wait));
  transfer
    .command('again <id>')
    .description('run the same transfer again, to fetch what has arrived since')
    .addOption(noWait())
    .action(async (id: string, { wait }: { wait: boolean }) => begun(client, json, `/transfers/${part(id)}/again`, {}, wait));
  transfer
    .command('stop <id>')
    .description('stop a transfer; what was copied stays')
    .action(async (id: string) => {
      await client.post(`/transfers/${part(id)}/stop`, {});
      show(json, await client.get<TransferDetails>(`/transfers/${part(id)}`), detailsText);
    });
}
