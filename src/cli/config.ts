import type { Command } from 'commander';
import type { SettingChanges } from '../api/configuration-schemas.ts';
import type { ApiClient } from './client.ts';
import { dim, type Json, safe, show, styled } from './output.ts';

type Change = SettingChanges['changes'][number];
const line = ({ key, from, to }: Change): string => `  ${key.padEnd(28)} ${safe(from ?? 'not set')} → ${safe(to ?? 'not set')}`;
const part = (title: string, all: readonly Change[]): string[] => (all.length === 0 ? [] : [title, ...all.map(line)]);
const SAME = 'The service runs as the file says.';

export function configCommands(program: Command, client: ApiClient, json: Json): void {
  // The command that needs no service may be there already.
  const config = program.commands.find((one) => one.name() === 'config') ?? program.command('config').description('the configuration file');
  config
    .command('changes')
    .description('what the file says otherwise than the service that runs, and what of it needs a restart')
    .action(async () =>
      show(json, await client.get<SettingChanges>('/configuration/changes'), ({ changes }) =>
        changes.length === 0
          ? SAME
          : [
              ...part(
                'Taken over by: tenedor config reload',
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
    .description(
      'take over from the file what can change while the service runs: log level, name servers, block lists, backups; and renewed certificates',
    )
    .action(async () =>
      show(json, await client.post<SettingChanges>('/configuration/reload'), ({ changes }) => {
        const waiting = changes.filter((one) => !one.isLive);
        return [
          ...part(
            `${styled('green', '✓')} Taken over`,
            changes.filter((one) => one.isLive),
          ),
          ...part('Waits for a restart', waiting),
          ...(changes.length === 0 ? [`${SAME} ${dim('Certificate files were looked at.')}`] : []),
        ].join('\n');
      }),
    );
}
