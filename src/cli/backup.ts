import type { Command } from 'commander';
import type { Backup, BackupState, UpkeepRun } from '../api/backup-schemas.ts';
import { ORDERS, type UpkeepKind } from '../core/vocabulary.ts';
import { recoverCommands } from './backup-recover.ts';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { listCommand } from './lists.ts';
import { configOption, type OnHost, serviceOrHost } from './on-host.ts';
import { bold, count, dim, facts, type Json, progress, safe, say, show, size, stamp, styled, time, zoned } from './output.ts';

const EVERY_MS = 500;
const WHAT: Record<UpkeepKind, string> = { backup: 'The backup', verify: 'The verification', integrity: 'The check of stored data' };

/** Waits for the end of what is under way, with its progress; returns what came of it. */
async function ended(client: ApiClient, kind: UpkeepKind): Promise<UpkeepRun> {
  for (;;) {
    const { underWay, last, lastVerified, lastIntegrity } = await client.get<BackupState>('/backups/state');
    if (!underWay) {
      progress('');
      const run = { backup: last, verify: lastVerified, integrity: lastIntegrity }[kind];
      if (!run) throw new CommandError(EXIT.refused, `${WHAT[kind]} was interrupted.`, 'See the service’s log for details.');
      return run;
    }
    const { done, total } = underWay;
    progress(total === 0 ? `${WHAT[kind]} begins …` : `${WHAT[kind]}: ${Math.floor((100 * done) / total)} %`);
    await new Promise((resolve) => setTimeout(resolve, EVERY_MS));
  }
}

const runText = (one: UpkeepRun): string =>
  [
    `${one.isGood ? styled('green', '✓') : styled('red', '✕')} ${bold(one.name ?? { backup: 'no backup', verify: '', integrity: 'stored data' }[one.kind])}  ${dim(safe(one.target ?? ''))}`,
    `  ${safe(one.outcome)}`,
    dim(`  It took ${Math.max(0, (one.endedAt ?? one.startedAt) - one.startedAt) / 1000} s.`),
  ].join('\n');

const stateText = (one: BackupState): string => {
  const last = one.lastGood === null ? 'none yet' : `${stamp(one.lastGood.startedAt)}, ${one.lastGood.name}`;
  const failed = one.last && one.last.isGood === false ? one.last : null;
  return facts([
    [
      'directory',
      one.target === null ? 'none; set [backup] target in the configuration, or name a directory: tenedor backup /path' : safe(one.target),
    ],
    ['last good', one.isOverdue ? styled('red', `${last}: too long ago`) : last],
    ...(failed
      ? ([['last', styled('red', `failed ${stamp(failed.endedAt ?? failed.startedAt)}: ${safe(failed.outcome)}`)]] as [string, string][])
      : []),
    [
      'verified',
      one.lastVerified === null
        ? 'never'
        : `${stamp(one.lastVerified.startedAt)}, ${one.lastVerified.name}: ${one.lastVerified.isGood ? 'whole' : styled('red', safe(one.lastVerified.outcome))}`,
    ],
    [
      'stored data',
      one.lastIntegrity === null
        ? 'not verified yet'
        : `${stamp(one.lastIntegrity.startedAt)}: ${one.lastIntegrity.isGood ? 'all is well' : styled('red', safe(one.lastIntegrity.outcome))}`,
    ],
    ['next', one.dueAt === null ? 'on request only' : stamp(one.dueAt)],
    ...(one.bucket === null ? [] : ([['bucket', safe(one.bucket)]] as [string, string][])),
    ['kept', `${one.keep.daily} daily, ${one.keep.weekly} weekly, ${one.keep.monthly} monthly`],
    ['key file', one.isKeySealed ? 'in each backup, sealed with a passphrase' : 'not in the backup: keep a copy elsewhere'],
    ...(one.underWay ? ([['under way', `${one.underWay.kind}, since ${stamp(one.underWay.startedAt)}`]] as [string, string][]) : []),
  ]);
};

export function backupCommands(program: Command, client: ApiClient, json: Json, onHost: OnHost): void {
  const shown = (one: UpkeepRun): void => {
    show(json, one, runText);
    if (one.isGood !== true) process.exitCode = EXIT.notGood;
  };
  const backup = program
    .command('backup [target]')
    .description('back up the running service to the configured directory, or to another one on the server')
    .action(async (target: string | undefined) => {
      await client.post('/backups', { target: target ?? null });
      shown(await ended(client, 'backup'));
    });
  backup
    .command('state')
    .description('when the last backup was made and verified, and when the next is due')
    .addOption(configOption())
    .action(async ({ config }: { config?: string }) => {
      const { service, host } = await serviceOrHost(client, onHost, config, {
        service: () => client.get<BackupState>('/backups/state'),
        host: onHost.backupState,
      });
      const state = host ?? service;
      show(json, state, stateText);
      if (host?.isRunning === false && !json())
        say(`\n${styled('red', `The service on ${host.host} is not running`)}: no backups are made.`);
      if (state.isOverdue) process.exitCode = EXIT.notGood;
    });
  listCommand<Backup>(
    backup,
    { client, json },
    {
      command: 'list',
      about: 'list the backups in the configured directory',
      orders: ORDERS.backups,
      path: '/backups',
      none: `There are no backups yet. ${dim('Make one: tenedor backup')}`,
      columns: () => ['name', 'size', 'texts', 'domains', 'mailboxes', 'messages', 'waiting', 'key'],
      row: (one) => [
        one.name,
        size(one.size),
        one.texts.toLocaleString('en'),
        one.counts.domains,
        one.counts.mailboxes,
        one.counts.messages.toLocaleString('en'),
        one.counts.waiting,
        one.hasKey ? 'sealed' : 'not in it',
      ],
    },
  );
  listCommand<UpkeepRun>(
    backup,
    { client, json },
    {
      command: 'runs',
      about: 'list past backups and verifications, with failures',
      orders: ORDERS.upkeepRuns,
      path: '/backups/runs',
      none: 'No backups have run yet.',
      columns: () => [zoned('when'), 'type', 'result', ''],
      row: (one) => [
        time(one.startedAt),
        `${one.kind}${one.isByHand ? ' by hand' : ''}`,
        one.isGood === null ? 'under way' : one.isGood ? styled('green', '✓ good') : styled('red', '✕ failed'),
        safe(`${one.name === null ? '' : `${one.name}: `}${one.outcome}`),
      ],
    },
  );
  backup
    .command('verify [name]')
    .description('verify a backup (default: the newest): every checksum, the database, and its counts')
    .option('--target <path>', 'a directory of the server (default: the configured one)')
    .action(async (name: string | undefined, options: { target?: string }) => {
      const [newest] = name === undefined ? await client.list<Backup>('/backups') : [];
      const meant = name ?? newest?.name;
      if (meant === undefined) throw new CommandError(EXIT.refused, 'There are no backups yet.', 'Make one: tenedor backup');
      await client.post('/backups/verify', { name: meant, target: options.target ?? null });
      shown(await ended(client, 'verify'));
    });
  recoverCommands(backup, client, json);
}

export function integrityCommands(program: Command, client: ApiClient, json: Json): void {
  const integrity = program.command('integrity').description('integrity of stored data');
  const look = async (isRepairing: boolean): Promise<void> => {
    await client.post('/integrity', { isRepairing });
    const one = await ended(client, 'integrity');
    show(json, one, runText);
    if (one.isGood !== true) process.exitCode = EXIT.notGood;
  };
  integrity
    .command('check')
    .description('verify the database, every message and all counters')
    .action(() => look(false));
  integrity
    .command('repair')
    .description('verify and repair: fetch lost messages from the backups, and recount usage')
    .action(() => look(true));
}

export const restoredWords = (name: string, held: number, leftOut: number): string =>
  [
    `${bold(name)} is restored.`,
    ...(leftOut === 0 ? [] : [`${count(leftOut, 'damaged message')} could not be restored; the overview lists them as lost.`]),
    held === 0
      ? 'Its queue was empty.'
      : `${count(held, 'recipient')} in its queue may have received the message since, so they are held. To release or drop them: tenedor queue list --held hand`,
    dim('Start the service: tenedor serve --config FILE'),
  ].join('\n');
