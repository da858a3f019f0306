import type { Command } from 'commander';
import type { Overview } from '../api/schemas.ts';
import type { ApiClient } from './client.ts';
import { EXIT } from './errors.ts';
import { configOption, type HostStatus, type OnHost, serviceOrHost } from './on-host.ts';
import { bold, count, dim, facts, type Json, safe, show, size, stamp, styled } from './output.ts';

type Counts = Overview['counts'];

const hereText = (counts: Counts): string => `${count(counts.domains, 'domain')}, ${count(counts.mailboxes, 'mailbox', 'mailboxes')}`;
const queueText = (counts: Counts): string =>
  counts.queued === 0 ? 'empty' : `${count(counts.queued, 'recipient')}, ${counts.delayed} delayed, ${counts.held} held`;

const HARM = { high: 'red', medium: 'yellow', low: 'cyan' } as const;
const attentionText = (attention: Overview['attention']): string =>
  [
    bold('Needs attention'),
    ...attention.map(
      (item) =>
        `  ${styled(HARM[item.harm], item.harm.padEnd(7))} ${(item.domain ?? '').padEnd(24)} ${safe(item.headline)}${item.also > 0 ? dim(` (and ${item.also} more)`) : ''}`,
    ),
  ].join('\n');

const statusText = (one: Overview): string =>
  [
    facts([
      ['service', `${bold(one.host)}, Tenedor ${one.version}, up since ${stamp(one.startedAt)}`],
      ['here', hereText(one.counts)],
      ['queue', queueText(one.counts)],
      [
        'reading',
        one.access.processes === 0
          ? 'no IMAP or POP3 port is open'
          : `${count(one.access.imap, 'IMAP session')}, ${count(one.access.pop3, 'POP3 session')}, in ${count(one.access.processes, 'process', 'processes')}`,
      ],
      ['sent today', `${count(one.sends, 'send')} in the last 24 hours`],
    ]),
    '',
    one.attention.length === 0 ? styled('green', 'Nothing needs attention.') : attentionText(one.attention),
  ].join('\n');

const hostText = (one: HostStatus): string =>
  [
    facts([
      ['service', `${bold(one.host)}, ${one.isRunning ? 'running' : styled('red', 'not running')}${dim(`   read from ${one.data}`)}`],
      ['last entry', one.lastEntryAt === null ? 'none: the journal is empty' : stamp(one.lastEntryAt)],
      ['here', hereText(one.counts)],
      ['queue', queueText(one.counts)],
      ...(one.freeBytes === null ? [] : ([['free', size(one.freeBytes)]] as [string, string][])),
    ]),
    ...(one.attention.length === 0 ? [] : ['', attentionText(one.attention)]),
    '',
    one.isRunning
      ? dim('For more, sign in: tenedor sign-in')
      : `Its log says why: journalctl -u tenedor -n 50. Start it: systemctl start tenedor`,
  ].join('\n');

export function statusCommand(program: Command, client: ApiClient, json: Json, onHost: OnHost): void {
  program
    .command('status')
    .description('what needs attention, most urgent first; exit code 1 if mail may be lost or cannot leave')
    .addOption(configOption())
    .action(async ({ config }: { config?: string }) => {
      const found = await serviceOrHost(client, onHost, config, {
        service: () => client.get<Overview>('/overview'),
        host: onHost.status,
      });
      if (found.host) show(json, found.host, hostText);
      else show(json, found.service, statusText);
      const { attention } = found.host ?? found.service;
      if (found.host?.isRunning === false || attention.some((one) => one.harm === 'high')) process.exitCode = EXIT.notGood;
    });
}
