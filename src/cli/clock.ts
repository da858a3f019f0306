import type { Command } from 'commander';
import type { ClockRealigned, ClockReport } from '../api/schemas.ts';
import { confirm } from './ask.ts';
import { type ApiClient, EXIT } from './client.ts';
import { count, dim, duration, facts, type Json, show, styled, time } from './output.ts';

export function clockCommands(program: Command, client: ApiClient, json: Json): void {
  const clock = program.command('clock').description('the machine’s clock, and the time by which the service waits and charges');
  clock
    .command('show')
    .description('show both, and whether one was wrong; exit code 1 when it was')
    .action(async () => {
      const report = await client.get<ClockReport>('/clock');
      show(json, report, clockText);
      if (report.aheadMs > 0) process.exitCode = EXIT.notGood;
    });
  clock
    .command('realign')
    .description('put right what was dated while the clock was wrong; no charge is added, lost or changed in its amount')
    .option('--yes', 'do not ask')
    .action(async (options: { yes?: true }) => {
      const before = await client.get<ClockReport>('/clock');
      if (before.aheadMs > 0)
        await confirm(
          `Date ${count(before.chargesAhead, 'charge')} anew, ${duration(Math.round(before.aheadMs / 1000))} earlier? The machine’s clock must be right: it shows ${time(before.wall)} UTC.`,
          options.yes,
        );
      const done = await client.post<ClockRealigned>('/clock/realign', {});
      show(json, done, () => `${count(done.charges, 'charge')} dated anew. The service goes by the machine’s clock again.`);
    });
}

function clockText(one: ClockReport): string {
  const ahead = one.aheadMs > 0;
  return [
    facts([
      ['machine', `${time(one.wall)} UTC`],
      ['service', `${time(one.service)} UTC${ahead ? styled('red', `  ${duration(Math.round(one.aheadMs / 1000))} ahead`) : ''}`],
      ['charges after now', String(one.chargesAhead)],
      ...(one.steppedMs === 0
        ? []
        : [
            [
              'set since the start',
              `${one.steppedMs > 0 ? 'forward' : 'back'} by ${duration(Math.round(Math.abs(one.steppedMs) / 1000))}`,
            ] as [string, string],
          ]),
    ]),
    ...(ahead
      ? [
          '',
          'The service once ran while the machine’s clock was wrong. Limits still hold, but statements of today lack what is charged now.',
          dim('When the machine’s clock is right: tenedor clock realign'),
        ]
      : []),
  ].join('\n');
}
