import type { Command } from 'commander';
import type { Plan } from '../api/schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { PLAN_FIELDS } from '../resources/plan.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { addFieldOptions, changesFrom } from './field-options.ts';
import { type LimitArgument, limitArguments, limitLine } from './limit-values.ts';
import { listCommand } from './lists.ts';
import { bold, count, facts, type Json, nothing, show, size } from './output.ts';

interface PlanOptions extends Record<string, unknown> {
  limit?: LimitArgument[];
  mailboxLimit?: LimitArgument[];
  brake?: string;
}

/** `40`, `40/20` (percent of at least so many sends), or `none`. */
function brakeBody(text: string): object {
  const [, share, least] = /^(\d{1,3})(?:\/(\d{1,6}))?$/.exec(text) ?? [];
  if (text === 'none') return { brakeShare: null };
  if (share === undefined)
    throw new CommandError(EXIT.usage, `“${text}” is not a valid brake.`, 'Write 40/20 for 40 % of at least 20 sends, or none.');
  return { brakeShare: Number(share), ...(least === undefined ? {} : { brakeLeast: Number(least) }) };
}

function planBody(options: PlanOptions): object {
  const { changes, rest } = changesFrom(PLAN_FIELDS, options);
  const { limit, mailboxLimit, brake, ...others } = rest as PlanOptions;
  return {
    ...others,
    ...changes,
    ...(limit === undefined ? {} : { limits: limit }),
    ...(mailboxLimit === undefined ? {} : { mailboxLimits: mailboxLimit }),
    ...(brake === undefined ? {} : brakeBody(brake)),
  };
}

const planFacts = (one: Plan): string =>
  facts([
    ['plan', bold(one.name)],
    ['a domain', one.limits.map(limitLine).join(', ') || 'no limit'],
    ['a mailbox', one.mailboxLimits.map(limitLine).join(', ') || 'no limit of its own'],
    [
      'when full',
      one.whenFull === 'refuse' ? 'refused' : `held: at most ${count(one.holdMost, 'recipient')} for ${count(one.holdHours, 'hour')}`,
    ],
    ['unusual', { off: 'not watched', flag: 'flagged', stop: 'flagged, and sending stopped' }[one.unusual]],
    ['brake', one.brakeShare === null ? 'none' : `when ${one.brakeShare} % of at least ${one.brakeLeast} sends in an hour fail`],
    ['quota', `${size(one.quotaBytes)} a mailbox`],
    ['mailboxes', `${one.mostMailboxes} a domain`],
    ['searches', one.indexTexts ? 'in subjects, addresses and message text' : 'in subjects and addresses'],
    ['in use by', count(one.domains, 'domain')],
  ]);

export function planCommands(program: Command, client: ApiClient, json: Json): void {
  const plan = program.command('plan').description('default limits and settings for domains');
  const valued = (command: Command): Command =>
    addFieldOptions(
      command
        .option('--limit <limit>', 'a limit per domain, like day=1000 or month:bytes=50G; may be repeated', limitArguments)
        .option('--mailbox-limit <limit>', 'a limit per mailbox, like hour=100; may be repeated', limitArguments)
        .option('--brake <share/least>', 'like 40/20: set the brake when 40 % of at least 20 sends in an hour fail; or none'),
      PLAN_FIELDS,
    );
  valued(plan.command('add <name>').description('add a plan')).action(async (name: string, options: PlanOptions) =>
    show(json, await client.post<Plan>('/plans', { name, ...planBody(options) }), planFacts),
  );
  listCommand<Plan>(
    plan,
    { client, json },
    {
      command: 'list',
      about: 'list plans',
      orders: ORDERS.plans,
      path: '/plans',
      none: nothing('plans', 'tenedor plan add NAME'),
      columns: () => ['plan', 'limits of a domain', 'when full', 'quota', 'mailboxes', 'domains'],
      row: (one) => [
        one.name,
        one.limits.map(limitLine).join(', ') || 'no limit',
        one.whenFull,
        size(one.quotaBytes),
        one.mostMailboxes,
        one.domains,
      ],
    },
  );
  plan
    .command('show <name>')
    .description('show a plan')
    .action(async (name: string) => show(json, await client.get<Plan>(`/plans/${part(name)}`), planFacts));
  valued(
    plan
      .command('set <name>')
      .description('change a plan; it applies immediately to domains without their own setting')
      .option('--name <new>', 'a new name'),
  ).action(async (name: string, options: PlanOptions) => {
    if (Object.keys(options).length === 0) throw new CommandError(EXIT.usage, 'No changes were given.', 'See: tenedor plan set --help');
    show(json, await client.patch<Plan>(`/plans/${part(name)}`, planBody(options)), planFacts);
  });
  plan
    .command('remove <name>')
    .description('remove an unused plan')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Remove the plan “${name}”?`, options.yes);
      await client.delete(`/plans/${part(name)}`);
      show(json, {}, () => `Plan “${name}” removed.`);
    });
}
