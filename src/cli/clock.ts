import type { Command } from 'commander';
import type { ClockRealigned, ClockReport } from '../api/access-schemas.ts';
import { confirm } from './ask.ts';
import type { ApiClient } from './client.ts';
import { EXIT } from './errors.ts';
import { count, dim, duration, facts, type Json, show, stamp, styled } from './output.ts';

export function clockCommands(program: Command, client: ApiClient, json: Json): void {
  const clock = program.command('clock').description('the machine’s clock, and the service’s own');
  clock
    .command('show')
    .description('show both clocks; exit code 1 if one was wrong')
    .action(async () => {
      const report = await client.get<ClockReport>('/clock');
      show(json, report, clockText);
      if (report.aheadMs > 0) process.exitCode = EXIT.notGood;
    });
  clock
    .command('realign')
    .description('correct the dates recorded while the clock was wrong; charges keep their amounts')
    .option('--yes', 'do not ask')
    .action(async (options: { yes?: true }) => {
      const before = await client.get<ClockReport>('/clock');
      if (before.aheadMs > 0)
        await confirm(
          `Date ${count(before.chargesAhead, 'charge')} back by ${duration(Math.round(before.aheadMs / 1000))}? The machine’s clock must be right: it shows ${stamp(before.wall)}.`,
          options.yes,
        );
      const done = await client.post<ClockRealigned>('/clock/realign', {});
      show(json, done, () => `${count(done.charges, 'charge')} redated. The service follows the machine’s clock again.`);
    });
}

function clockText(one: ClockReport): string {
  const ahead = one.aheadMs > 0;
  return [
    facts([
      ['machine', `${stamp(one.wall)}`],
      ['service', `${stamp(one.service)}${ahead ? styled('red', `  ${duration(Math.round(one.aheadMs / 1000))} ahead`) : ''}`],
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
