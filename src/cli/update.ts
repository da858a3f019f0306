import type { Command } from 'commander';
import type { Versions } from '../api/update-schemas.ts';
import type { ApiClient } from './client.ts';
import { bold, dim, facts, type Json, safe, show, table, time, zoned } from './output.ts';

/** What needs the service; checking and applying a package works without it, on its machine. */
export function updateCommands(program: Command, client: ApiClient, json: Json): void {
  const update =
    program.commands.find((one) => one.name() === 'update') ?? program.command('update').description('the version of this program');
  update
    .command('list')
    .description('list the versions that have run here, and the latest changes')
    .action(async () => show(json, await client.get<Versions>('/versions'), versionsText));
}

const versionsText = ({ version, databaseVersion, runs, brought }: Versions): string =>
  [
    facts([
      ['version', bold(safe(version))],
      ['database', `version ${databaseVersion}`],
    ]),
    '',
    table(
      ['version', 'database', zoned('since')],
      runs.map((one) => [safe(one.version), one.databaseVersion, time(one.since)]),
    ),
    ...brought.flatMap((release) => [
      '',
      `${bold(`What ${safe(release.version)} brought`)}${release.date === null ? '' : dim(`  ${safe(release.date)}`)}`,
      ...release.groups.flatMap(({ title, items }) => [
        `  ${safe(title)}`,
        ...items.map((item) => `    - ${safe(item.replaceAll('*', ''))}`),
      ]),
    ]),
  ].join('\n');
