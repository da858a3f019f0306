import type { Command } from 'commander';
import type { Limits } from '../api/mail-schemas.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { type LimitArgument, limitArgument, limitLine, limitTable } from './limit-values.ts';
import { choice, momentOption, SPAN_WORDS, TIME_WORDS, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, show, styled } from './output.ts';

export const SCOPE = 'a domain, a mailbox, server, customer:NAME, outlet:NAME or a network';

/** Room under a limit is of no use to whom a brake holds. */
function stopText({ kind, scope }: NonNullable<Limits['stop']>): string {
  const what = { pause: 'is paused', brake: 'is braked', unusual: 'is stopped for unusual sending' }[kind];
  const end = kind === 'pause' ? `tenedor resume ${scope}` : `tenedor brake release ${scope}`;
  return `${styled('red', `${safe(scope)} ${what}: nothing is sent until then.`)} ${dim(end)}`;
}

function limitsText(one: Limits): string {
  const full =
    one.kind === 'outlet'
      ? []
      : [
          [
            'when full',
            one.whenFull === 'refuse'
              ? 'refused, 452 4.7.28'
              : `held until there is room: at most ${count(one.holdMost, 'recipient')}, ${count(one.holdHours, 'hour')}${one.waiting > 0 ? `; ${one.waiting} waiting now` : ''}`,
          ] as [string, string],
        ];
  return [
    facts([
      ['limits of', bold(safe(one.name))],
      ...full,
      ...(one.choiceFrom === 'own' && one.kind !== 'server' ? [['', dim('own setting, not the plan’s')] as [string, string]] : []),
    ]),
    '',
    limitTable(one.limits),
    ...(one.stop === null ? [] : ['', stopText(one.stop)]),
  ].join('\n');
}

export function limitCommands(program: Command, client: ApiClient, json: Json): void {
  const limit = program.command('limit').description('sending limits');
  limit
    .command('show <scope>')
    .description(`show limits, usage, and when there is room again; of ${SCOPE}`)
    .action(async (scope: string) => show(json, await client.get<Limits>(`/limits/${part(scope)}`), limitsText));
  limit
    .command('set <scope> [limits...]')
    .description('set limits, like day=1000, month:bytes=50G, hour=none or day=plan; effective from the next recipient')
    .addOption(choice('--when-full <what>', 'what happens when a limit is reached', ['refuse', 'hold', 'plan']))
    .option('--hold-most <recipients>', 'most recipients that may wait', wholeNumber)
    .option('--hold-hours <hours>', 'longest wait in hours', wholeNumber)
    .action(async (scope: string, values: string[], options: { whenFull?: string; holdMost?: number; holdHours?: number }) => {
      if (values.length === 0 && Object.keys(options).length === 0)
        throw new CommandError(EXIT.usage, 'No limit was named.', `Name one, like: tenedor limit set ${scope} hour=200 day=1000`);
      show(json, await client.put<Limits>(`/limits/${part(scope)}`, { limits: values.map(asLimit), ...options }), limitsText);
    });
  limit
    .command('raise <scope> <limit>')
    .description('raise a limit temporarily, like day=5000')
    .requiredOption('--until <when>', `a time ${TIME_WORDS}, or a span from now ${SPAN_WORDS}`, momentOption)
    .requiredOption('--reason <text>', 'reason, recorded in the journal')
    .action(async (scope: string, value: string, options: { until: number; reason: string }) =>
      show(json, await client.post<Limits>(`/limits/${part(scope)}/raises`, { ...asLimit(value), ...options }), (one) =>
        [limitsText(one), ...nearer(one, asLimit(value))].join('\n'),
      ),
    );
  limit
    .command('lower <scope>')
    .description('end all raises of a scope')
    .action(async (scope: string) => show(json, await client.delete<Limits>(`/limits/${part(scope)}/raises`), limitsText));
}

/** A raise is of no use while another limit is nearer: which ones are. */
function nearer(one: Limits, raised: LimitArgument): string[] {
  const left = (limit: Limits['limits'][number]): number => (limit.amount === null ? Number.POSITIVE_INFINITY : limit.amount - limit.used);
  const own = one.limits.find((limit) => limit.period === raised.period && limit.quantity === raised.quantity);
  const closer = one.limits.filter((limit) => own && limit !== own && limit.quantity === own.quantity && left(limit) < left(own));
  return closer.map((limit) =>
    styled(
      'yellow',
      `Another limit is reached first: ${limitLine(limit)}, of which ${Math.max(0, left(limit)).toLocaleString('en')} are left.`,
    ),
  );
}

const asLimit = (text: string): LimitArgument => {
  try {
    return limitArgument(text);
  } catch (error) {
    throw new CommandError(EXIT.usage, (error as Error).message, 'See: tenedor limit set --help');
  }
};
