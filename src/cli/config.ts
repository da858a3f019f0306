import type { Command } from 'commander';
import type { SettingChanges } from '../api/configuration-schemas.ts';
import type { ApiClient } from './client.ts';
import { dim, type Json, safe, show, styled } from './output.ts';

type Change = SettingChanges['changes'][number];
const line = ({ key, from, to }: Change): string => `  ${key.padEnd(28)} ${safe(from ?? 'not set')} → ${safe(to ?? 'not set')}`;
const part = (title: string, all: readonly Change[]): string[] => (all.length === 0 ? [] : [title, ...all.map(line)]);
const SAME = 'The running service matches the file.';

export function configCommands(program: Command, client: ApiClient, json: Json): void {
  // The command that needs no service may be there already.
  const config = program.commands.find((one) => one.name() === 'config') ?? program.command('config').description('the configuration file');
  config
    .command('changes')
    .description('compare the file with the running service, and show what needs a restart')
    .action(async () =>
      show(json, await client.get<SettingChanges>('/configuration/changes'), ({ changes }) =>
        changes.length === 0
          ? SAME
          : [
              ...part(
                'To apply: tenedor config reload',
                changes.filter((one) => one.isLive),
              ),
              ...part(
                'Needs a restart',
                changes.filter((one) => !one.isLive),
              ),
            ].join('\n'),
      ),
    );
  config
    .command('reload')
    .description('apply what can change without a restart: log level, name servers, block lists, backups, renewed certificates')
    .action(async () =>
      show(json, await client.post<SettingChanges>('/configuration/reload'), ({ changes }) => {
        const waiting = changes.filter((one) => !one.isLive);
        return [
          ...part(
            `${styled('green', '✓')} Applied`,
            changes.filter((one) => one.isLive),
          ),
          ...part('Needs a restart', waiting),
          ...(changes.length === 0 ? [`${SAME} ${dim('Certificate files were read again.')}`] : []),
        ].join('\n');
      }),
    );
}
